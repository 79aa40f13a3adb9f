package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tartine/internal/calls"
	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/deploy"
	"tartine/internal/manifest"
	"tartine/internal/render"
	"tartine/internal/targets"
	"tartine/internal/web"
)

// webFlags is for commands that look through the web.
func (a *app) webFlags(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&a.flags.resolve, "resolve", nil, "ask this address for a host of the web, `HOST:PORT:ADDRESS`: one machine of several, or a new one before its name leads there (repeatable)")
}

// webAccess gives how the web server of a target is reached.
func (a *app) webAccess(t *config.Target) (*web.Access, error) {
	out := &web.Access{Agent: "tartine/" + a.build.Version, User: t.WebUser.Value, Resolve: map[string]string{}, Parallel: min(a.flags.jobs, 32)}
	for _, text := range a.flags.resolve {
		at, address, err := web.ParseResolve(text)
		if err != nil {
			return nil, usageError("--resolve: "+err.Error(), "write it as in --resolve gannet.example:443:192.0.2.7")
		}
		out.Resolve[at] = address
	}
	var err error
	if t.WebCA.Value != "" {
		if out.CAs, err = web.ReadCAs(config.Resolve(t.WebCA)); err != nil {
			return nil, &config.Error{At: t.WebCA.At, Reason: "web_ca: " + err.Error()}
		}
	}
	if t.WebPassword.IsSet() {
		find, _ := a.phrases.LoadOrStore("web_password at "+t.WebPassword.At.String(), once(a.secret(t.WebPassword, "web_password")))
		out.Password, err = find.(func() (string, error))()
	}
	return out, err
}

// visiting gives a visit of a target's site, without what is to be looked at.
func (a *app) visiting(ctx context.Context, t *config.Target, access *web.Access, s *targets.Opened) (*web.Visit, error) {
	base, err := url.Parse(t.Web.Value)
	if err != nil {
		return nil, err
	}
	if !strings.HasSuffix(base.Path, "/") {
		base.Path += "/"
	}
	v := &web.Visit{Access: access, Base: base}
	if s != nil {
		v.Original = s.Open
		v.Earlier = func(ctx context.Context) (out []web.Earlier, err error) {
			past, err := calls.History.On(ctx, s, calls.None{})
			for i := 0; i < len(past) && err == nil; i++ {
				var m *manifest.Manifest
				if m, err = calls.Deployment.On(ctx, s, past[i].Number); err == nil {
					out = append(out, web.Earlier{Number: past[i].Number, Entries: m.Entries})
				}
			}
			return out, err
		}
	}
	return v, nil
}

// targetOf gives a target of the settings with the address at which visitors see it.
func (a *app) targetOf(heading render.Heading) (*config.Target, error) {
	settings, err := a.settings()
	if err != nil {
		return nil, err
	}
	t, named := settings.Targets[heading.Target]
	if !named || t.Web.Value == "" {
		return nil, usageError(fmt.Sprintf("the settings do not say at which address visitors see %s", heading.Name()), "write web: https://HOST/PATH/ in the target")
	}
	return &t, nil
}

// neverServed is what no server should give out, beside what the names of the guard are for.
var neverServed = []string{".tartine/current", ".git/HEAD", ".git/config", ".hg/requires", ".svn/entries", ".env", ".htpasswd", ".htaccess",
	".netrc", ".pgpass", ".my.cnf", ".npmrc", ".ssh/authorized_keys", ".DS_Store", "tartine.yaml", "backup.sql", "dump.sql", "database.sql", "index.html~", "index.html.bak", "index.php~"}

// privatePaths gives what must not be served of a site, relative to its address.
func privatePaths(root string, base *url.URL) []string {
	out := append([]string{}, neverServed...)
	if base.Path != "/" { // the record beside the root may be reached through the folder above
		out = append(out, "../."+path.Base(root)+".tartine/current")
	}
	return out
}

// visitFlags is what verify is told of a look through the web.
type visitFlags struct {
	web    bool
	sample int
}

// verifyWeb checks a site through the web against a manifest, or, when it is nil, against what is recorded there.
func (a *app) verifyWeb(ctx context.Context, args []string, m *manifest.Manifest, own visitFlags) error {
	all, err := a.meant(ctx, args)
	if err != nil {
		return err
	}
	one := &a.firstOf(all)[0]
	t, err := a.targetOf(one.heading)
	if err != nil {
		return err
	}
	access, err := a.webAccess(t)
	if err != nil {
		return err
	}
	if m != nil { // nobody need log in
		return a.visit(ctx, one, t, access, nil, m, own)
	}
	return a.withOne(ctx, one, func(ctx context.Context, s *targets.Opened, heading render.Heading, _ targets.Settings) error {
		if err := a.finishOrWarn(ctx, s); err != nil {
			return err
		}
		past, err := calls.History.On(ctx, s, calls.None{})
		if err != nil {
			return err
		}
		if len(past) == 0 {
			return usageError(fmt.Sprintf("no deployment is recorded at %s", heading.Address), "deploy first, or check against a file with --manifest FILE")
		}
		recorded, err := calls.Deployment.On(ctx, s, past[0].Number)
		if err != nil {
			return err
		}
		return a.visit(ctx, one, t, access, s, recorded, own)
	})
}

func (a *app) visit(ctx context.Context, at *meant, t *config.Target, access *web.Access, s *targets.Opened, m *manifest.Manifest, own visitFlags) error {
	v, err := a.visiting(ctx, t, access, s)
	if err != nil {
		return err
	}
	v.Entries, v.Sample, v.Folders, v.Private = m.Entries, own.sample, true, privatePaths(at.heading.Root, v.Base)
	memory := a.webMemory(v.Base)
	v.Known = memory.read()
	ended := func() {}
	if draws(a.stderr) && !a.flags.quiet {
		progress, done := a.progress(ctx, true)
		watch := progress.Watch()
		watch.Phase("web", len(m.Entries), 0)
		v.Asked, ended = func(path string) { watch.File(path, 0) }, done
	}
	report, err := v.Look(ctx)
	ended()
	if err != nil {
		return err
	}
	memory.write(v.Known)
	if !report.Well() {
		a.status = ExitDiffers
	}
	p := a.printer()
	if a.json() {
		return p.VisitJSON(at.heading, report)
	}
	if !report.Well() {
		p.Quiet = false // what is wrong is said in any case
	}
	p.Visit(at.heading, report)
	return nil
}

// Look implements deploy.Runner.
func (r *runner) Look(ctx context.Context, facts *deploy.Facts) error {
	v, err := r.app.visiting(ctx, r.target, r.access, r.site)
	if err != nil {
		return err
	}
	for _, c := range facts.Changed {
		if c.Want != nil {
			v.Entries = append(v.Entries, *c.Want)
		}
	}
	report, err := v.Look(ctx)
	if err == nil && !report.Well() {
		err = &web.FoundError{Report: report}
	}
	return err
}

// webMemory is a file that keeps what was found through the web, for one address.
type webMemory string

// webMemory gives the memory for an address; empty: there is none.
func (a *app) webMemory(base *url.URL) webMemory {
	dir, err := content.UserCacheFolder()
	if err != nil || len(a.flags.resolve) > 0 { // of one machine behind a name no more is known than of the others
		return ""
	}
	sum := sha256.Sum256([]byte(base.String()))
	return webMemory(filepath.Join(dir, "web-1-"+hex.EncodeToString(sum[:12])))
}

// mostMemory is how large a memory may be that is read, in bytes.
const mostMemory = 256 << 20

func (m webMemory) read() map[string]web.Known {
	out := map[string]web.Known{}
	if m == "" {
		return out
	}
	in, err := os.Open(string(m))
	if err != nil {
		return out
	}
	defer in.Close()
	if json.NewDecoder(io.LimitReader(in, mostMemory)).Decode(&out) != nil {
		return map[string]web.Known{}
	}
	return out
}

// write keeps what was found. Without it all is fetched again, and no more.
func (m webMemory) write(known map[string]web.Known) {
	if m == "" {
		return
	}
	if text, err := json.Marshal(known); err == nil {
		_ = content.ReplaceFile(string(m), text)
	}
}

// visitSentence is of web servers that give no answer, or send all visitors elsewhere.
func visitSentence(err error) *statusError {
	var (
		silent *web.UnreachableError
		moved  *web.BaseError
	)
	switch {
	case errors.As(err, &silent):
		return &statusError{status: ExitConnection, what: silent.Error(), next: "look whether the address in web: is right and its server runs; --resolve HOST:PORT:ADDRESS asks one machine"}
	case errors.As(err, &moved):
		return &statusError{status: ExitUsage, what: moved.Error(), next: fmt.Sprintf("write web: %s in the target, if that is where visitors see it", moved.To)}
	}
	return nil
}
