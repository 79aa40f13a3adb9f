package connect_test

import (
	"io"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/connect"
)

// TestAShellIsEndedBySeveralAtOnce has a program that leads to no shell be given up by whose patience is over and by who opened it.
func TestAShellIsEndedBySeveralAtOnce(t *testing.T) {
	shell, err := connect.RunShell(t.Context(), []string{"sleep", "60"}, io.Discard)
	require.NoError(t, err)
	var ending sync.WaitGroup
	for range 3 {
		ending.Go(func() { _ = shell.Close() })
	}
	ended := make(chan struct{})
	go func() {
		ending.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
}
