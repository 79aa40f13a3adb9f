//go:build !linux

package site

import "time"

// changeStep is the step in which the system dates changes.
func changeStep() time.Duration { return longestStep }
