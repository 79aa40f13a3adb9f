//go:build linux

package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"tartine/internal/agent"
	"tartine/internal/cli"
	"tartine/internal/fsys"
	"tartine/internal/fsys/fsystest"
	"tartine/internal/testservers/ftptest"
	"tartine/internal/testservers/porttest"
	"tartine/internal/testservers/sshdtest"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == agent.HiddenCommand && filepath.Base(os.Args[0]) != "tartine-victim" { // a copy of this program at a far end
		main()
	}
	cache, own := "", strings.HasSuffix(filepath.Base(os.Args[0]), ".test")
	if own && !raced { // before the cache is another one: the compiler has its own there
		dir, err := builtOnce()
		if err != nil {
			panic(err)
		}
		os.Setenv("PATH", dir+string(os.PathListSeparator)+os.Getenv("PATH"))
	}
	if own { // and not one of the programs below
		var err error
		if cache, err = os.MkdirTemp("", "tartine-cache"); err != nil {
			panic(err)
		}
		os.Setenv("XDG_CACHE_HOME", cache) // for all tests: they run at the same time
		os.Setenv("ROCK_PASSWORD", ftptest.Password)
		os.Setenv("EDITOR", `sh -c 'printf "<p>edited" >>"$0"'`)
		go endOverdue()
	}
	programs := map[string]func(){
		"tartine": main, "tartine-victim": victim, "tartine-mortal": func() { os.Exit(run(cli.Build{Between: mortalAt(os.Getenv("DIES_AT"))})) },
		"tartine-slow": func() { os.Exit(run(cli.Build{Between: slow})) }}
	if own && !raced {
		delete(programs, "tartine") // the program that users run; the others are this binary, with something in between
	}
	testscript.Main(tidied{m, cache}, programs)
}

// commands are what the stories need beside the program and testscript's own.
var commands = map[string]func(ts *testscript.TestScript, neg bool, args []string){
	"flipbit": flipBit, "stamp": stamp, "aged": aged, "untouched": untouched, "mkfifo": makePipe, "badname": badName, "closedport": closedPort, "silentport": silentPort,
	"exits": exits, "cutproxy": cutProxy, "until": until, "latecomer": latecomer, "smalldisk": smallDisk,
}

// slow makes each operation at a site take its time, so that there is time to interrupt. It does not tell how much
// room there is.
func slow(f fsys.FS) fsys.FS {
	return &fsystest.Between{FS: noSpace{f}, Before: func(string, ...string) error { <-time.After(30 * time.Millisecond); return nil }}
}

// mortalAt kills the program before a file gets a name that ends so.
func mortalAt(name string) func(fsys.FS) fsys.FS {
	return func(f fsys.FS) fsys.FS {
		return &fsystest.Between{FS: f, Before: func(op string, names ...string) error {
			if op == "rename" && strings.HasSuffix(names[1], name) {
				_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
				select {}
			}
			return nil
		}}
	}
}

// noSpace hides how much may still be written.
type noSpace struct{ fsys.FS }

func (n noSpace) Link(ctx context.Context, from, to string) error {
	return n.FS.(fsys.Linker).Link(ctx, from, to)
}

// until PATTERN waits until a file matches it.
func until(ts *testscript.TestScript, _ bool, args []string) {
	for range 1000 {
		if found, _ := filepath.Glob(ts.MkAbs(args[0])); len(found) > 0 {
			return
		}
		<-time.After(10 * time.Millisecond)
	}
	ts.Fatalf("%s never came", args[0])
}

// smalldisk DIR OPTION mounts a memory disk, with an option such as size=1m, until the story ends.
func smallDisk(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[0])
	ts.Check(os.MkdirAll(dir, 0o755))
	ts.Check(syscall.Mount("tmpfs", dir, "tmpfs", 0, args[1]))
	ts.Defer(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
}

func TestStories(t *testing.T) {
	condition := func(cond string) (bool, error) { return cond == "root" && os.Getuid() == 0, nil }
	testscript.Run(t, testscript.Params{Dir: "testdata/script", Cmds: commands, Condition: condition, Setup: setUp})
}

// TestStoriesOverSSH tells the stories of ssh/ for each kind of user against OpenSSH's server.
func TestStoriesOverSSH(t *testing.T) {
	t.Parallel()
	server := sshdtest.Start(t)
	users := sshdtest.Users(t)
	if testing.Short() {
		users = users[len(users)-1:]
	}
	for _, user := range users {
		t.Run(user, func(t *testing.T) {
			locked := sshdtest.Folder(t, sshdtest.Users(t)[0])
			condition := func(cond string) (bool, error) {
				return cond == "root" && user == "root" || cond == "ci" && os.Getenv("CI") != "", nil
			}
			testscript.Run(t, testscript.Params{Dir: "testdata/script/ssh", Cmds: commands, Condition: condition, Setup: func(env *testscript.Env) error {
				env.Vars = append(env.Vars, "SSH=ssh://"+user+"@127.0.0.1:"+strconv.Itoa(server.Port), "SFTP=sftp://"+user+"@127.0.0.1:"+strconv.Itoa(server.Port),
					"PORT="+strconv.Itoa(server.Port), "SSH_USER="+user, "IDENTITY="+server.Identity, "FINGERPRINT="+server.Fingerprint,
					"LOCKED="+locked, "KNOWN="+server.KnownHosts, "FAR="+sshdtest.Folder(t, user))
				return setUp(env)
			}})
		})
	}
}

func setUp(env *testscript.Env) error {
	env.Vars = append(env.Vars, "XDG_CACHE_HOME="+filepath.Join(env.WorkDir, ".cache"), "SSH_AUTH_SOCK=", "GORACE="+os.Getenv("GORACE"))
	return nil
}

// flipbit FILE changes one bit in the middle of a file and keeps its time.
func flipBit(ts *testscript.TestScript, _ bool, args []string) {
	name := ts.MkAbs(args[0])
	info, err := os.Stat(name)
	ts.Check(err)
	content, err := os.ReadFile(name)
	ts.Check(err)
	content[len(content)/2] ^= 1
	ts.Check(os.WriteFile(name, content, info.Mode()))
	ts.Check(os.Chtimes(name, info.ModTime(), info.ModTime()))
}

func stampOf(ts *testscript.TestScript, name string) string {
	info, err := os.Lstat(ts.MkAbs(name))
	ts.Check(err)
	stat := info.Sys().(*syscall.Stat_t)
	return fmt.Sprint(stat.Ino, stat.Mtim, stat.Ctim, stat.Mode)
}

// aged FILE... dates files a quarter of an hour back.
func aged(ts *testscript.TestScript, _ bool, args []string) {
	then := time.Now().Add(-15 * time.Minute)
	for _, name := range args {
		ts.Check(os.Chtimes(ts.MkAbs(name), then, then))
	}
}

// stamp FILE... notes inode, times and mode of files, for untouched.
func stamp(ts *testscript.TestScript, _ bool, args []string) {
	for _, name := range args {
		ts.Setenv("STAMP_"+name, stampOf(ts, name))
	}
}

// untouched FILE... fails when a file is not the one that was noted.
func untouched(ts *testscript.TestScript, neg bool, args []string) {
	for _, name := range args {
		if same := stampOf(ts, name) == ts.Getenv("STAMP_"+name); same == neg {
			ts.Fatalf("%s: untouched is %v", name, same)
		}
	}
}

func makePipe(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(syscall.Mkfifo(ts.MkAbs(args[0]), 0o644))
}

// badname DIR makes a file in it whose name is not valid UTF-8.
func badName(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(filepath.Join(ts.MkAbs(args[0]), "caf\xe9.html"), []byte("x"), 0o644))
}

// closedport VAR sets a variable to a port at which nothing listens.
func closedPort(ts *testscript.TestScript, _ bool, args []string) {
	port, release, err := porttest.Free()
	ts.Check(err)
	ts.Defer(release)
	ts.Setenv(args[0], strconv.Itoa(port))
}

// silentport VAR sets a variable to a port where something that is not an SSH server hangs up at once.
func silentPort(ts *testscript.TestScript, _ bool, args []string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	ts.Check(err)
	ts.Setenv(args[0], strconv.Itoa(l.Addr().(*net.TCPAddr).Port))
	ts.Defer(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(conn, "220 mail.example ready\r\n")
			conn.Close()
		}
	}()
}

// exits STATUS PROGRAM [ARGUMENT...] runs a program that must end with this exit status.
func exits(ts *testscript.TestScript, _ bool, args []string) {
	want, err := strconv.Atoi(args[0])
	ts.Check(err)
	got := 0
	if err := ts.Exec(args[1], args[2:]...); err != nil {
		var ended *exec.ExitError
		if !errors.As(err, &ended) {
			ts.Fatalf("%v", err)
		}
		got = ended.ExitCode()
	}
	if got != want {
		ts.Fatalf("%s exited with %d, not %d", args[1], got, want)
	}
}

// cutproxy VAR PORT BYTES sets a variable to a port that leads to another one and cuts each connection once so many
// bytes have gone there.
func cutProxy(ts *testscript.TestScript, _ bool, args []string) {
	limit, err := strconv.ParseInt(args[2], 10, 64)
	ts.Check(err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	ts.Check(err)
	ts.Setenv(args[0], strconv.Itoa(l.Addr().(*net.TCPAddr).Port))
	ts.Defer(func() { l.Close() })
	go lead(l, args[1], limit)
}

// lead takes connections on to another port, and cuts each once so many bytes have gone there.
func lead(l net.Listener, port string, limit int64) {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		far, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err != nil {
			near.Close()
			continue
		}
		go func() {
			_, _ = io.CopyN(far, near, limit) // it is to break off
			near.Close()
			_ = far.(*net.TCPConn).CloseWrite() // what is on the way arrives, as on a line that is cut
		}()
		go func() {
			_, _ = io.Copy(near, far)
			_, _ = io.Copy(io.Discard, far)
			far.Close()
		}()
	}
}

// latecomer PORT TO leads a port at which nothing listened until now to another one.
func latecomer(ts *testscript.TestScript, _ bool, args []string) {
	l, err := net.Listen("tcp", "127.0.0.1:"+args[0])
	ts.Check(err)
	ts.Defer(func() { l.Close() })
	go lead(l, args[1], math.MaxInt64)
}
