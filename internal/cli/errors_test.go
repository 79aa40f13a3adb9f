package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/connect/engine"
	"tartine/internal/connect/ftpline"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/farend"
	"tartine/internal/manifest"
	"tartine/internal/site"
	"tartine/internal/targets"
)

// TestEveryCauseHasItsStatusAndItsNextStep is the contract that schedulers rely on.
func TestEveryCauseHasItsStatusAndItsNextStep(t *testing.T) {
	holder := site.Holder{User: "warden", Host: "rock.example", Process: 7}
	stuck := []site.Failure{{Path: "img/a.svg", Err: &site.StepError{Do: "place", Err: fs.ErrPermission}}}
	for _, c := range []struct {
		err    error
		status int
		next   string
	}{
		{usageError("wrong", "do this"), ExitUsage, "do this"},
		{errInterrupted, ExitInterrupted, "run it again"},
		{&deploy.Refusal{Reason: content.ErrGuard}, ExitRefused, "guard: {allow:"},
		{&deploy.Refusal{Reason: content.ErrLinks}, ExitRefused, "links: follow"},
		{&deploy.Refusal{Reason: deploy.ErrBlocked}, ExitRefused, "--remove-strays"},
		{&deploy.Refusal{Reason: deploy.ErrCase}, ExitRefused, "rename one"},
		{&deploy.Refusal{Reason: deploy.ErrMoved}, ExitRefused, "without --remove-strays"},
		{fmt.Errorf("stage: %w", farend.ErrLost), ExitConnection, "run it again"},
		{&targets.InsecureError{Address: "ftp://rock.example"}, ExitRefused, "ftps://"},
		{&targets.CommandError{Command: []string{"sh"}, Err: io.EOF}, ExitConnection, "POSIX shell"},
		{&connect.Error{Step: connect.HostKey, Err: &connect.HostKeyError{Fingerprint: "SHA256:x"}}, ExitRefused, "tartine trust"},
		{&connect.Error{Step: connect.Login, Err: &connect.LoginError{Accepts: []string{"publickey"}}}, ExitConnection, "--identity"},
		{&connect.Error{Step: connect.Login, Err: &connect.IdentityError{File: "key", Open: true}}, ExitConnection, "chmod 600 key"},
		{&connect.Error{Step: connect.Port, Err: connect.ErrHungUp}, ExitConnection, "try again"},
		{&connect.Error{Step: connect.Certificate, Err: &ftpline.CertificateError{Fingerprint: "SHA256:x"}}, ExitRefused, "certificate: SHA256:x"},
		{&engine.Error{Denied: true}, ExitConnection, "socket"},
		{&targets.ContainerError{Name: "kiosk", Stopped: true}, ExitConnection, "start it"},
		{&site.LockedError{Holder: holder}, ExitRefused, "--wait"},
		{&site.LockLostError{Holder: &holder}, ExitRefused, "run it again"},
		{&site.UnfinishedError{Number: 7, Failed: stuck}, ExitIncomplete, "tartine unlock --give-up"},
		{&site.RecordError{File: "publish.json", Err: &site.UntrustedError{Reason: "it names a neighbour"}}, ExitRefused, "look who made it"},
		{&site.RecordError{File: "current", Err: fs.ErrPermission}, ExitIncomplete, "free space and rights"},
		{&site.RecordError{File: "publish.json", Err: fmt.Errorf("version 9 is not known, and %w", site.ErrNewer)}, ExitRefused, "use the program that wrote it"},
		{&site.RecordError{File: "deployments/7.json", Err: site.ErrOtherTree}, ExitRefused, "--compare none"},
		{&site.OvertakenError{}, ExitRefused, "run it again"},
		{&site.RootError{Root: "/srv/www", Parent: true}, ExitUsage, "--make-root"},
		{&site.RootError{Root: "/srv/www", Reason: "cannot be made", Err: fs.ErrPermission}, ExitConnection, "tartine doctor"},
		{&targets.UnfitError{Name: "kiosk", Cause: "it was killed"}, ExitConnection, "agent: off"},
		{&targets.ContainerError{Name: "kiosk", Paused: true}, ExitConnection, "unpause it"},
		{&site.SpaceError{Need: 2, Free: 1}, ExitIncomplete, "make room"},
		{&site.NotKeptError{Number: 1, Kept: []int{2, 3}}, ExitUsage, "recorded are 2 3"},
		{&deploy.GoneError{Number: 1}, ExitRefused, "deploy that content anew"},
		{&config.Error{}, ExitUsage, ""},
		{&content.SourceError{Source: "public", Err: fs.ErrNotExist}, ExitUsage, "check the path"},
		{&manifest.FormatError{}, ExitUsage, "tartine manifest"},
		{errors.New("anything else"), ExitUsage, ""},
	} {
		e := sentence(fmt.Errorf("deploy: %w", c.err))
		require.Equal(t, c.status, e.status, "%v", c.err)
		require.Contains(t, e.next, c.next, "%v", c.err)
		require.NotContains(t, e.what, "%!")
		require.NotContains(t, e.what, "<nil>")
		require.NotContains(t, e.what, "\n")
	}
	require.Equal(t, []string{"img/a.svg  (place: permission denied)"}, sentence(&site.UnfinishedError{Number: 7, Failed: stuck}).paths)
}

func TestConsentIsAskedForOnceAndNamesEveryReason(t *testing.T) {
	a := &app{}
	plain := &person{app: a}
	err := plain.Agree(&deploy.Consent{Empty: true, Drifted: []string{"a"}, Replaced: []string{"b", "c"}, Removed: []string{"d"}, Moved: "/srv/other", First: true})
	var refused *statusError
	require.ErrorAs(t, err, &refused)
	require.Equal(t, ExitRefused, refused.status)
	require.Equal(t, []string{"a", "b", "c", "d"}, refused.paths)
	for _, reason := range []string{"the content is empty", "a link now, to /srv/other", "1 path was altered", "2 paths would be overwritten", "1 path would be removed"} {
		require.Contains(t, refused.what, reason)
	}
	require.Contains(t, refused.next, "--yes")
	require.NoError(t, plain.Agree(&deploy.Consent{}))
	overwrite, remove := &person{app: a, drift: true}, &person{app: a, strays: true}
	require.NoError(t, overwrite.Agree(&deploy.Consent{Drifted: []string{"a"}}), "--overwrite-drift answers for drift")
	require.Error(t, overwrite.Agree(&deploy.Consent{Drifted: []string{"a"}, Removed: []string{"b"}}), "and for nothing else")
	require.NoError(t, remove.Agree(&deploy.Consent{Removed: []string{"b"}}), "--remove-strays answers for strays")
	require.Error(t, remove.Agree(&deploy.Consent{Drifted: []string{"a"}, Removed: []string{"b"}}), "and for nothing else")
	require.Error(t, remove.Agree(&deploy.Consent{Removed: []string{"b"}, First: true}), "nor where no deployment was yet")
	a.flags.yes = true
	require.NoError(t, plain.Agree(&deploy.Consent{Removed: []string{"d"}}))
}

func TestNumbersOfDeploymentsAreTakenFromTheEnd(t *testing.T) {
	for text, want := range map[string]struct {
		names  []string
		number int
		wrong  bool
	}{
		"":           {nil, 0, false},
		"live":       {[]string{"live"}, 0, false},
		"3":          {[]string{}, 3, false},
		"live 3":     {[]string{"live"}, 3, false},
		"live three": {nil, 0, true},
		"0":          {nil, 0, true},
		"live -1":    {nil, 0, true},
	} {
		names, number, err := splitNumber(strings.Fields(text))
		require.Equal(t, want.wrong, err != nil, text)
		if err == nil {
			require.Equal(t, want.number, number, text)
			require.Equal(t, len(want.names), len(names), text)
		}
	}
}
