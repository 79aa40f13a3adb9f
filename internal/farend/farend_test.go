package farend

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSaidDrivesNoTerminal(t *testing.T) {
	require.Equal(t, "no room   [31m left", Said("no room\r\n\x1b[31m left\n", 100))
	require.Equal(t, "Blätt?r", Said("Blätt\xffr", 100))
	require.Equal(t, "gan", Said("gannet", 3))
	require.Equal(t, "Bl?", Said("Blätter", 3), "no half letter")
	require.Equal(t, "a b c", Said("a\u009bb\u200fc", 100))
	require.Empty(t, Said("", 100))
}
