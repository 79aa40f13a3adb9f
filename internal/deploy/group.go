package deploy

import (
	"context"
	"errors"
	"slices"

	"tartine/internal/calls"
)

// ErrFirst tells that a site keeps a deployment that is given up, because nothing was there before it.
var ErrFirst = errors.New("nothing was there before")

// Member is one of several sites that get the same deployment, or none of them does.
type Member interface {
	// Deploy brings the deployment to the site. It calls tried once it has tried to publish, with the number of the
	// deployment that was current before.
	Deploy(ctx context.Context, tried func(e calls.Engine, before int)) error
	// Earlier opens the site anew, hands on a session whose content is an earlier deployment of it, and closes it.
	Earlier(ctx context.Context, number int, use func(context.Context, *Session) error) error
	// Restored is told that the site has an earlier deployment again, or why it keeps the new one.
	Restored(number int, err error)
}

// AllOrNone deploys to one member after the other. Where one of them fails, those before it get back what was current
// there, in the opposite order.
func AllOrNone(ctx context.Context, members []Member) error {
	type published struct {
		Member
		before int
	}
	var done []published
	for _, m := range members {
		err := m.Deploy(ctx, func(e calls.Engine, before int) {
			past, failed := calls.History.On(context.WithoutCancel(ctx), e, calls.None{})
			if failed == nil && len(past) > 0 && past[0].Number != before {
				done = append(done, published{m, before})
			}
		})
		if err == nil {
			continue
		}
		var unwell *UnwellError
		if errors.As(err, &unwell) && unwell.Back > 0 { // it is back already
			done = slices.DeleteFunc(done, func(d published) bool { return d.Member == m })
		}
		for _, d := range slices.Backward(done) {
			d.Restored(d.before, restore(context.WithoutCancel(ctx), d.Member, d.before))
		}
		return err
	}
	return nil
}

// restore publishes an earlier deployment again, without a question: it was current a moment ago.
func restore(ctx context.Context, m Member, number int) error {
	if number == 0 {
		return ErrFirst
	}
	return m.Earlier(ctx, number, func(ctx context.Context, s *Session) error {
		c, err := s.Compare(ctx)
		if err != nil {
			return err
		}
		_, err = s.Publish(ctx, c)
		return err
	})
}
