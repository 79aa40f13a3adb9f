package cli

import (
	"context"

	"tartine/internal/config"
	"tartine/internal/deploy"
	"tartine/internal/web"
)

// webAccess gives how the web server of a target is reached.
func (a *app) webAccess(t *config.Target) (*web.Access, error) {
	out := &web.Access{Agent: "tartine/" + a.build.Version, User: t.WebUser.Value}
	if t.WebCA.Value != "" {
		var err error
		if out.CAs, err = web.ReadCAs(config.Resolve(t.WebCA)); err != nil {
			return nil, &config.Error{At: t.WebCA.At, Reason: "web_ca: " + err.Error()}
		}
	}
	if t.WebPassword.IsSet() {
		var err error
		if out.Password, err = a.secret(t.WebPassword, "web_password")(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Look implements deploy.Runner.
func (r *runner) Look(ctx context.Context, facts *deploy.Facts) error {
	return nil
}
