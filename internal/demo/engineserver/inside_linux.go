package engineserver

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/moby/moby/api/types/mount"
	"golang.org/x/sys/unix"
)

// canMount tells whether this program may give its threads other mounts: it is root, and not shut in itself.
var canMount = sync.OnceValue(func() bool {
	if os.Geteuid() != 0 {
		return false
	}
	tried := make(chan error)
	go func() {
		runtime.LockOSThread() // for good: the thread ends with this function
		tried <- unix.Unshare(unix.CLONE_NEWNS | unix.CLONE_FS)
	}()
	return <-tried == nil
})

func canStart() bool { return true }

// room is a thread that sees the files as a container does. Where this program is not root it sees them as everybody
// does, and only the programs that it starts do otherwise.
type room struct {
	work chan func()
	root *os.Root
	top  string // where the container's top is, as the thread sees it
}

// enter makes a room. Memory disks are in it only where programs are to run in it.
func (c *container) enter(memory bool) (*room, error) {
	r := &room{work: make(chan func()), top: c.root}
	if canMount() {
		r.top = "/"
	}
	ready := make(chan error)
	go func() {
		runtime.LockOSThread() // for good: the thread ends with this function
		err := c.see(memory)
		if err == nil {
			r.root, err = os.OpenRoot(r.top)
		}
		ready <- err
		if err != nil {
			return
		}
		for do := range r.work {
			do()
		}
		r.root.Close()
	}()
	if err := <-ready; err != nil {
		return nil, fmt.Errorf("enter container %s: %w", c.name, err)
	}
	return r, nil
}

// see has the thread see the files as the container does.
func (c *container) see(memory bool) error {
	if !canMount() {
		return nil
	}
	if err := unix.Unshare(unix.CLONE_NEWNS | unix.CLONE_FS); err != nil {
		return fmt.Errorf("leave the mounts of this machine: %w", err)
	}
	put := func(from, at, kind string, flags uintptr, data string) error {
		if err := unix.Mount(from, at, kind, flags, data); err != nil {
			return &fs.PathError{Op: "mount", Path: at, Err: err}
		}
		return nil
	}
	if err := put("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return err
	}
	if err := put(c.root, c.root, "", unix.MS_BIND, ""); err != nil {
		return err
	}
	for _, own := range []string{"/proc", "/dev"} {
		if err := put(own, c.root+own, "", unix.MS_BIND|unix.MS_REC, ""); err != nil && !c.server.windows() {
			return err
		}
	}
	for _, m := range c.mounts {
		at := path.Join(c.root, inRoot(m.path))
		var err error
		switch {
		case m.kind == mount.TypeVolume:
			err = put(m.folder, at, "", unix.MS_BIND, "")
		case memory:
			flags := uintptr(unix.MS_NODEV | unix.MS_NOSUID)
			if strings.Contains(c.host.Tmpfs[m.path], "noexec") {
				flags |= unix.MS_NOEXEC
			}
			err = put("tmpfs", at, "tmpfs", flags, "mode=1777")
		}
		if err != nil {
			return err
		}
	}
	if c.host.ReadonlyRootfs && memory { // an archive is refused with words of its own
		if err := put("", c.root, "", unix.MS_REMOUNT|unix.MS_BIND|unix.MS_RDONLY, ""); err != nil {
			return err
		}
	}
	if err := unix.Chroot(c.root); err != nil {
		return err
	}
	return unix.Chdir("/")
}

// do runs something in the room.
func (r *room) do(what func(root *os.Root) error) error {
	done := make(chan error)
	r.work <- func() {
		// What ends the connection must end it where the connection is known.
		defer func() {
			if recovered := recover(); recovered != nil {
				done <- &aborted{recovered}
			}
		}()
		done <- what(r.root)
	}
	err := <-done
	var stop *aborted
	if errors.As(err, &stop) {
		panic(stop.reason)
	}
	return err
}

type aborted struct{ reason any }

func (a *aborted) Error() string { return fmt.Sprint(a.reason) }

// leave ends the thread. Programs that were started from it are killed.
func (r *room) leave() { close(r.work) }

// process is a program that runs in a container.
type process struct {
	cmd    *exec.Cmd
	done   chan struct{}
	status int // once it is done
}

func (p *process) signal(name string) {
	number := unix.SignalNum("SIG" + strings.TrimPrefix(name, "SIG"))
	if plain, err := strconv.Atoi(name); err == nil {
		number = syscall.Signal(plain)
	}
	_ = p.cmd.Process.Signal(number) // it may have ended
}

// mostTries is how often a program is started again that was written just now: what was started meanwhile, in another room, may have it open
// to be written to for a moment, until it is another program.
const mostTries = 100

// start starts a program in the room. Without an input it waits for one that never comes.
func (r *room) start(command, env []string, user, folder string, in io.Reader, out, words io.Writer) (*process, error) {
	near, far, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	p := &process{done: make(chan struct{})}
	starting := make(chan error)
	r.work <- func() {
		begin := func() error {
			cmd, err := r.command(command, user, folder)
			if err == nil {
				cmd.Env = append(cmd.Env, env...)
				cmd.Stdin, cmd.Stdout, cmd.Stderr, cmd.WaitDelay = near, out, words, time.Second
				p.cmd, err = cmd, cmd.Start()
			}
			return err
		}
		err := begin()
		for tries := 0; errors.Is(err, syscall.ETXTBSY) && tries < mostTries; tries++ {
			time.Sleep(10 * time.Millisecond)
			err = begin()
		}
		starting <- err
	}
	err = <-starting
	near.Close()
	if err != nil {
		far.Close()
		return nil, err
	}
	if in != nil {
		go func() {
			_, _ = io.Copy(far, in)
			far.Close()
		}()
	}
	go func() {
		_ = p.cmd.Wait() // the state says how it ended
		far.Close()
		p.status = p.cmd.ProcessState.ExitCode()
		if ended, ok := p.cmd.ProcessState.Sys().(syscall.WaitStatus); ok && ended.Signaled() {
			p.status = 128 + int(ended.Signal()) // as engines tell it
		}
		close(p.done)
	}()
	return p, nil
}

// search is where programs without a slash in their names are looked for.
var search = []string{"usr/local/sbin", "usr/local/bin", "usr/sbin", "usr/bin", "sbin", "bin"}

func (r *room) command(command []string, user, folder string) (*exec.Cmd, error) {
	name := inRoot(command[0])
	if !strings.Contains(command[0], "/") {
		at := slices.IndexFunc(search, func(dir string) bool {
			_, err := r.root.Stat(dir + "/" + command[0])
			return err == nil
		})
		if at < 0 {
			return nil, fmt.Errorf("exec: %q: executable file not found in $PATH", command[0])
		}
		name = search[at] + "/" + command[0]
	}
	who, err := credential(user)
	if err != nil {
		return nil, err
	}
	cmd := &exec.Cmd{Path: "/" + name, Args: command, Dir: "/" + inRoot(folder),
		Env:         []string{"PATH=/" + strings.Join(search, ":/"), "HOME=/"},
		SysProcAttr: &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Credential: who}}
	if !canMount() { // in a space of users of its own an ordinary user may change the top of what a program sees
		mine := func(id int) []syscall.SysProcIDMap { return []syscall.SysProcIDMap{{HostID: id, Size: 1}} }
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Cloneflags: syscall.CLONE_NEWUSER,
			Chroot:      r.top,
			UidMappings: mine(os.Getuid()), GidMappings: mine(os.Getgid())}
	}
	return cmd, nil
}

// credential reads USER[:GROUP], as numbers.
func credential(user string) (*syscall.Credential, error) {
	out := &syscall.Credential{}
	if user == "" {
		return out, nil
	}
	uid, gid, _ := strings.Cut(user, ":")
	id, err := strconv.ParseUint(uid, 10, 32)
	if err != nil {
		return nil, fmt.Errorf("unable to find user %s: no matching entries in passwd file", uid)
	}
	out.Uid = uint32(id)
	if gid != "" {
		if id, err = strconv.ParseUint(gid, 10, 32); err != nil {
			return nil, fmt.Errorf("unable to find group %s: no matching entries in group file", gid)
		}
		out.Gid = uint32(id)
	}
	return out, nil
}

// fileID tells files apart that have several names.
type fileID struct{ dev, ino uint64 }

func identify(info fs.FileInfo) (id fileID, several bool) {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return fileID{}, false
	}
	return fileID{uint64(stat.Dev), stat.Ino}, stat.Nlink > 1
}
