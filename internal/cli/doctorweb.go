package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"time"

	"tartine/internal/calls"
	"tartine/internal/config"
	"tartine/internal/render"
	"tartine/internal/site"
	"tartine/internal/targets"
	"tartine/internal/web"
)

// webChecks goes on to the web where the settings say at which address visitors see a target: its name, its certificate,
// its front page, and whether what is served is the root that is written to.
func (a *app) webChecks(ctx context.Context, heading render.Heading, s *targets.Opened) ([]site.Check, error) {
	settings, err := a.settings()
	if err != nil {
		return nil, err
	}
	t, named := settings.Targets[heading.Target]
	if !named || t.Web.Value == "" {
		return nil, nil
	}
	access, err := a.webAccess(&t)
	if err != nil {
		return nil, err
	}
	return a.examineWeb(ctx, &t, access, s), ctx.Err()
}

func (a *app) examineWeb(ctx context.Context, t *config.Target, access *web.Access, s *targets.Opened) (checks []site.Check) {
	base := strings.TrimSuffix(t.Web.Value, "/") + "/"
	add := func(name string, verdict site.Verdict, fix, found string, args ...any) {
		checks = append(checks, site.Check{Name: name, Verdict: verdict, Found: fmt.Sprintf(found, args...), Fix: fix})
	}
	began := time.Now()
	front, err := access.Fetch(ctx, base)
	if err != nil {
		add("web", site.Wrong, "look whether the address in web: is right and its server runs", "%v", err)
		return checks
	}
	switch end := front.Certificate; {
	case end.IsZero():
	case web.Ends(end):
		add("certificate", site.Slow, "renew it", "it ends on %s", end.Local().Format("2006-01-02 15:04"))
	default:
		add("certificate", site.Good, "", "it holds until %s", end.Local().Format(time.DateOnly))
	}
	switch {
	case front.Status == http.StatusOK:
		add("front page", site.Good, "", "it answers 200 over %s (%s)", strings.TrimSuffix(front.Protocol, ".0"), render.Duration(time.Since(began).Round(time.Millisecond)))
	case front.To != "":
		add("front page", site.Slow, "write that address in web:, if it is where visitors see the site", "it leads to %s", front.To)
	default:
		add("front page", site.Wrong, "look at the settings of the web server, and whether its user can read the root", "it answers %d", front.Status)
	}
	verdict, fix, found := tryBeacon(ctx, access, base, s)
	if found != "" {
		add("served root", verdict, fix, "%s", found)
	}
	return checks
}

// tryBeacon puts a file with a name that nobody knows into the root, asks for it through the web, and removes it.
func tryBeacon(ctx context.Context, access *web.Access, base string, s *targets.Opened) (verdict site.Verdict, fix, found string) {
	name, text := "tartine-"+strings.ToLower(rand.Text())+".txt", rand.Text()
	_, err := calls.Beacon.On(ctx, s, calls.Lighting{Name: name, Text: text})
	if errors.Is(err, fs.ErrNotExist) {
		return site.Slow, "deploy first", "the root does not exist yet, so nothing could be put there to see whether it is served"
	}
	if err != nil {
		return site.Wrong, "check the rights of the user who logs in", "no file can be put into the root: " + err.Error()
	}
	got, err := access.Fetch(ctx, base+name)
	if _, failed := calls.Beacon.On(context.WithoutCancel(ctx), s, calls.Lighting{Name: name, Remove: true}); failed != nil {
		return site.Wrong, "remove it", fmt.Sprintf("%s, which was put into the root, could not be removed: %v", name, failed)
	}
	const look = "look which folder the web server serves at this address"
	switch {
	case err != nil:
		return site.Wrong, look, err.Error()
	case got.Status == http.StatusOK && got.Body == text:
		return site.Good, "", "a file that was put there came back, and was removed"
	case got.Status == http.StatusOK:
		return site.Wrong, look, "the server gives something else for a file that was put there"
	case got.Status == http.StatusForbidden:
		return site.Wrong, "let the web server's user read the root and enter the folders above it", "the server answers 403 for a file that was put there"
	}
	return site.Wrong, look, fmt.Sprintf("the server answers %d for a file that was put there", got.Status)
}
