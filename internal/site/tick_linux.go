package site

import (
	"time"

	"golang.org/x/sys/unix"
)

// changeStep is the step in which the system dates changes: that of its timer (clock_getres(2)).
func changeStep() time.Duration {
	var step unix.Timespec
	if err := unix.ClockGetres(unix.CLOCK_REALTIME_COARSE, &step); err != nil || step.Nano() <= 0 ||
		time.Duration(step.Nano()) > longestStep {
		return longestStep
	}
	return time.Duration(step.Nano())
}
