package connect

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAThrottleIsPaidForEveryByte holds for pieces of any size, also those that are larger than what may pass at once.
func TestAThrottleIsPaidForEveryByte(t *testing.T) {
	const rate = 400_000
	for name, pass := range map[string]func(l *Throttle, bytes int){
		"read":    func(l *Throttle, bytes int) { l.Pay(bytes) },
		"written": func(l *Throttle, n int) { _, _ = l.Write(make([]byte, n), new(bytes.Buffer).Write) },
		"in small pieces": func(l *Throttle, n int) {
			for range n / 1000 {
				l.Pay(1000)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			l := NewThrottle(rate)
			began := time.Now()
			pass(l, 200_000)
			least := time.Duration(200_000-l.limit.Burst()) * time.Second / rate
			require.GreaterOrEqual(t, time.Since(began), least)
		})
	}
	require.Nil(t, NewThrottle(0))
	NewThrottle(0).Pay(1 << 40) // as fast as it goes
}
