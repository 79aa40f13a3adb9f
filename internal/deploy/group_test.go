package deploy_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"tartine/internal/calls"
	"tartine/internal/content"
	"tartine/internal/deploy"
)

// fellow is one of several sites.
type fellow struct {
	*place
	name   string
	broken error
	log    *[]string
}

func (f *fellow) Deploy(ctx context.Context, tried func(calls.Engine, int)) error {
	*f.log = append(*f.log, "deploy "+f.name)
	s := f.session(content.KeepLinks, deploy.Options{})
	c, err := s.Compare(ctx)
	require.NoError(f.t, err)
	_, err = s.Publish(ctx, c)
	require.NoError(f.t, err)
	tried(s.Engine, c.Survey.Number)
	return f.broken
}

func (f *fellow) Earlier(ctx context.Context, number int, use func(context.Context, *deploy.Session) error) error {
	s := f.session(content.KeepLinks, deploy.Options{})
	s.Content = deploy.Earlier(number)
	return use(ctx, s)
}

func (f *fellow) Restored(number int, err error) {
	*f.log = append(*f.log, fmt.Sprintf("restored %s to %d: %v", f.name, number, err))
}

func TestSeveralSitesGetADeploymentOrNoneDoes(t *testing.T) {
	var log []string
	member := func(name string) *fellow { return &fellow{newPlace(t, "content/a.html"), name, nil, &log} }
	old, fresh, last := member("old"), member("fresh"), member("last")
	old.deploy(deploy.Options{})
	last.broken = errors.New("its disk is full")
	for _, f := range []*fellow{old, fresh, last} {
		f.write("content/a.html", "the second")
	}
	err := deploy.AllOrNone(t.Context(), []deploy.Member{old, fresh, last})
	require.ErrorIs(t, err, last.broken)
	require.Equal(t, []string{"deploy old", "deploy fresh", "deploy last", "restored last to 0: nothing was there before", "restored fresh to 0: nothing was there before",
		"restored old to 1: <nil>"}, log)
	past, err := calls.History.On(t.Context(), old.session(content.KeepLinks, deploy.Options{}).Engine, calls.None{})
	require.NoError(t, err)
	require.Equal(t, 1, past[0].Rollback)
}
