package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"tartine/internal/demo/ftpserver"
	"tartine/internal/demo/sshserver"
)

// Walk shows Tartine at work on the example: it starts a server, runs the program as a person would, and prints each
// command with its own output.
type Walk struct {
	Program        string // this program's file
	Stdout, Stderr *os.File
	Keep           bool   // leave folder and server until the context is done
	Target         string // what kind of server it is: one of Targets
	Steps          []Step // what was run

	dir    string // everything lies here
	server io.Closer
}

// Step is a command that was run, and how it ended.
type Step struct {
	Command []string `json:"command"`
	Status  int      `json:"status"`
}

// Targets is the kinds of server that the example can be deployed to.
var Targets = []string{"ssh", "ftp", "container"}

// password is that of the example's user where the server is not an SSH server.
const password = "kittiwake"

// User is who logs in at the example's server.
const User = "warden"

// Run walks through the example. It fails when any command exits otherwise than it should.
func (w *Walk) Run(ctx context.Context) (err error) {
	if w.dir, err = os.MkdirTemp("", "gannet-rock-"); err != nil {
		return err
	}
	if !w.Keep {
		defer os.RemoveAll(w.dir)
	}
	if err := w.setUp(ctx); err != nil {
		return err
	}
	defer w.server.Close()
	for _, chapter := range []func(context.Context) error{w.first, w.again, w.change, w.tamper} {
		if err := chapter(ctx); err != nil {
			return err
		}
	}
	if w.Keep {
		login := ""
		if w.Target == "ftp" {
			login = PasswordVariable + "=" + password + " "
		}
		w.say("The folder %s and the %s stay until Ctrl-C. In another terminal:\n\n    cd %s\n    %startine diff\n",
			w.dir, w.place(), w.dir, login)
		<-ctx.Done()
		return os.RemoveAll(w.dir)
	}
	w.say("That was all. The folder and the %s are going now; --keep leaves them for trying.\n", w.place())
	return nil
}

// place is the word for where the site is.
func (w *Walk) place() string {
	if w.Target == "container" {
		return "container"
	}
	return "server"
}

func (w *Walk) site(name string) string {
	return filepath.Join(w.dir, "server", "gannet", filepath.FromSlash(name))
}

func (w *Walk) setUp(ctx context.Context) (err error) {
	if err := Unpack(w.dir); err != nil {
		return err
	}
	if err := os.Mkdir(filepath.Join(w.dir, "server"), 0o755); err != nil {
		return err
	}
	switch w.Target {
	case "ftp":
		return w.rent()
	case "container":
		return w.openKiosk(ctx)
	}
	home := filepath.Join(w.dir, "server", "home")
	if err := os.Mkdir(home, 0o700); err != nil {
		return err
	}
	if _, err := exec.LookPath("sh"); err != nil {
		home = "" // then it has no shell, and all goes over SFTP
	}
	server, err := sshserver.Start(User, filepath.Join(w.dir, "warden.key"), home)
	if err != nil {
		return fmt.Errorf("start the example's server: %w", err)
	}
	w.server = server
	root := filepath.ToSlash(w.site(""))
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d/%s", User, server.Port(), strings.TrimPrefix(root, "/"))
	settings := Settings(url, "warden.key", server.Fingerprint)
	return os.WriteFile(filepath.Join(w.dir, "tartine.yaml"), []byte(settings), 0o644)
}

// rent starts an FTP server in the place of an SSH server.
func (w *Walk) rent() error {
	server, err := ftpserver.Start(ftpserver.Options{Dir: filepath.Join(w.dir, "server"), User: User,
		Password: password})
	if err != nil {
		return fmt.Errorf("start the example's server: %w", err)
	}
	w.server = server
	settings := RentedSettings(fmt.Sprintf("ftps://%s@127.0.0.1:%d/gannet", User, server.Port), server.Certificate)
	return os.WriteFile(filepath.Join(w.dir, "tartine.yaml"), []byte(settings), 0o644)
}

// openKiosk makes a container in the place of a server.
func (w *Walk) openKiosk(ctx context.Context) error {
	k, err := openKiosk(ctx, w.Program, filepath.Join(w.dir, "engine"))
	if err != nil {
		return fmt.Errorf("make the example's container: %w", err)
	}
	w.server = k
	w.say("%s", k.introduce())
	return os.WriteFile(filepath.Join(w.dir, "tartine.yaml"), []byte(k.settings()), 0o644)
}

func (w *Walk) first(ctx context.Context) error {
	w.say("1. The site of Gannet Rock goes to its %s for the first time. These are its settings:\n", w.place())
	if err := w.show("tartine.yaml"); err != nil {
		return err
	}
	return w.run(ctx, 0, "deploy", "rock")
}

func (w *Walk) again(ctx context.Context) error {
	w.say("2. Nothing has changed since. A second deployment sends nothing and touches nothing.\n")
	return w.run(ctx, 0, "deploy", "rock")
}

func (w *Walk) change(ctx context.Context) error {
	w.say("3. The warden corrects a page and withdraws another: site/species/shag.html is edited, and site/log/2026-01.html is\n" +
		"   removed together with the line of site/log/index.html that leads to it.\n")
	if err := w.edit("site/species/shag.html", "88 pairs", "91 pairs"); err != nil {
		return err
	}
	if err := w.edit("site/log/index.html", "<li><a href=\"2026-01.html\">2026-01</a></li>\n", ""); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(w.dir, "site", "log", "2026-01.html")); err != nil {
		return err
	}
	if err := w.run(ctx, 0, "diff", "rock"); err != nil {
		return err
	}
	return w.run(ctx, 0, "deploy", "rock")
}

func (w *Walk) tamper(ctx context.Context) error {
	w.say("4. Somebody alters a tide table in the %s, and keeps its size. Verify reads every file there and finds it.\n", w.place())
	if err := w.alter(ctx, "tides/2026-05.csv", ",4.", ",3."); err != nil {
		return err
	}
	if err := w.run(ctx, 1, "verify", "rock"); err != nil {
		return err
	}
	w.say("   A deployment puts it right. It asks before it overwrites what somebody altered, unless it is told not to.\n")
	if err := w.run(ctx, 0, "deploy", "rock", "--overwrite-drift"); err != nil {
		return err
	}
	return w.run(ctx, 0, "verify", "rock")
}

// alter changes a file of the site.
func (w *Walk) alter(ctx context.Context, name, old, new string) error {
	if k, ok := w.server.(*kiosk); ok {
		return k.alter(ctx, name, old, new)
	}
	content, err := os.ReadFile(w.site(name))
	if err != nil {
		return err
	}
	return os.WriteFile(w.site(name), []byte(strings.Replace(string(content), old, new, 1)), 0o644)
}

func (w *Walk) edit(name, old, new string) error {
	full := filepath.Join(w.dir, filepath.FromSlash(name))
	content, err := os.ReadFile(full)
	if err != nil {
		return err
	}
	if !strings.Contains(string(content), old) {
		return fmt.Errorf("the example's %s does not hold %q", name, old)
	}
	return os.WriteFile(full, []byte(strings.Replace(string(content), old, new, 1)), 0o644)
}

func (w *Walk) say(format string, args ...any) { fmt.Fprintf(w.Stdout, "\n"+format, args...) }

func (w *Walk) show(name string) error {
	f, err := os.Open(filepath.Join(w.dir, name))
	if err != nil {
		return err
	}
	defer f.Close()
	fmt.Fprintf(w.Stdout, "\n")
	content, err := io.ReadAll(f)
	for line := range strings.Lines(string(content)) {
		fmt.Fprintf(w.Stdout, "    %s", line)
	}
	return err
}

// run runs the program as a person would and checks its exit status.
func (w *Walk) run(ctx context.Context, want int, args ...string) error {
	fmt.Fprintf(w.Stdout, "\n$ tartine %s\n", strings.Join(args, " "))
	cmd := exec.CommandContext(ctx, w.Program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = w.dir, w.Stdout, w.Stderr
	cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(w.dir, ".cache"), PasswordVariable+"="+password)
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return fmt.Errorf("run %s: %w", w.Program, err)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	got := cmd.ProcessState.ExitCode()
	w.Steps = append(w.Steps, Step{append([]string{"tartine"}, args...), got})
	if got != want {
		return fmt.Errorf("tartine %s exited with %d, not %d", strings.Join(args, " "), got, want)
	}
	return nil
}
