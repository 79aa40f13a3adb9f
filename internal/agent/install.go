package agent

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"time"

	"golang.org/x/crypto/blake2b"

	"tartine/internal/farend"
	"tartine/internal/trace"
)

// The program gets to the far end through a POSIX shell that reads commands from its standard input. Whatever a login
// prints before is passed over: lines count only with a marker that is made up for the session.
//
// The copy is written under a name of its own in the user's cache folder, checked there by its digest, and then
// renamed, so that no half copy is ever found under the name that is looked for, which is made of the program's digest.
// An upload that the connection broke off goes on from what arrived. Where that folder cannot hold programs that run,
// the copy lives in a private temporary folder and is removed as it starts.
//
// Only bytes that we wrote are run: a copy counts when it and its folder belong to the user who logged in, no one else
// may write into that folder or replace it on the way there, and its digest is the one that is wanted. Where the far
// end cannot compute digests a copy is never found, but written anew each time.

// Stream is a way to a shell: what is written to it is read by the shell, and what the shell prints is read from it.
type Stream interface {
	io.Reader
	io.Writer
	io.Closer
}

// Program says which program is to run at the far end.
type Program struct {
	Path   string // one that is installed there already; empty: this one is copied there
	Builds string // a folder of builds for other systems, tartine-OS-PROCESSOR each; may be empty
	Own    string // the file of this program; empty: where the system says it is
	As     *Raise // as whom it is to run; nil: as who logs in
	// Patience is how long a shell may take to answer; 0: so long as one takes that runs already.
	Patience time.Duration
	// Arrived is told how much of an upload that was broken off exists there, in bytes; it may be nil.
	Arrived func(bytes int64)
}

// UnavailableError tells why no agent runs at the far end. The site can still be reached in another way.
type UnavailableError struct{ Reason string }

func (e *UnavailableError) Error() string { return "no agent runs at the far end: " + e.Reason }

func unavailable(format string, args ...any) error {
	return &UnavailableError{fmt.Sprintf(format, args...)}
}

// Time limits of the steps until the agent answers.
const (
	shellLimit  = 3 * time.Second // from the first command to a shell on: what a login runs may read what is meant for the shell
	startLimit  = 15 * time.Second
	uploadLimit = 10 * time.Minute
)

// HiddenCommand is the name of the program's command that serves as the agent.
const HiddenCommand = "far-end"

// Start has an agent started behind a shell, and copies the program there first where it must. What it returns reads
// what the agent says. The caller closes the stream, also after an error, which is an *UnavailableError where the agent
// alone is the matter.
func Start(ctx context.Context, stream Stream, program Program) (io.Reader, error) {
	d := &dialogue{ctx: ctx, in: bufio.NewReaderSize(stream, 256<<10), out: stream, stream: stream, marker: Marker(), begins: program.begins(), patience: program.Patience}
	said, err := d.start(program)
	if err == nil && strings.HasPrefix(said, "prepared ") {
		err = d.raise(program.As, said)
	} else if err == nil && said != "ready" {
		err = unavailable("%s", printable(strings.TrimPrefix(said, "failed ")))
	}
	return d.in, err
}

// start has the program started that is there, or copies it there first. It gives what the far end says in the end: ready,
// that it is prepared to be raised, or why it is not.
func (d *dialogue) start(program Program) (said string, err error) {
	if program.Path != "" {
		return d.startInstalled(program.Path, program.As != nil)
	}
	d.arrived = program.Arrived
	own, err := ownSums(program.Own)
	if err != nil {
		return "", unavailable("this program cannot be read: %v", err)
	}
	said, system, err := d.startCopy(own)
	if err != nil || system == "" {
		return said, err
	}
	build, err := program.buildFor(system)
	if err != nil {
		return "", err
	}
	if build.sha256 != own.sha256 { // that it may be there already could not be asked before
		other, err := build.sums()
		if err != nil {
			return "", unavailableWith(err)
		}
		if said, system, err = d.startCopy(other); err != nil || system == "" {
			return said, err
		}
	}
	return d.upload(build)
}

// Copy gives the program that is to run at a far end of some system, where it is not put there through a shell, with
// its digest in hex. It fails with an *UnavailableError.
func Copy(program Program, system string) (content []byte, digest string, err error) {
	file, err := program.fileFor(system)
	if err != nil {
		return nil, "", unavailableWith(err)
	}
	if content, err = os.ReadFile(file); err != nil {
		return nil, "", unreadable(system, file, err)
	}
	sum := sha256.Sum256(content)
	return content, hex.EncodeToString(sum[:]), nil
}

// fileFor gives the file of the build for a system.
func (p *Program) fileFor(system string) (string, error) {
	switch {
	case system == ownSystem:
		return ownFile(p.Own)
	case p.Builds == "":
		return "", unavailable("it runs %s, and this program is for %s/%s; a folder of builds can be named with agents:", system, runtime.GOOS, runtime.GOARCH)
	}
	return filepath.Join(p.Builds, "tartine-"+strings.ReplaceAll(system, "/", "-")), nil
}

// unavailableWith makes an error an *UnavailableError, if it is none.
func unavailableWith(err error) error {
	var already *UnavailableError
	if errors.As(err, &already) {
		return err
	}
	return unavailable("the program cannot be read: %v", err)
}

// ownSystem is the system that this program is for.
const ownSystem = runtime.GOOS + "/" + runtime.GOARCH

// buildFor gives the build for a system. It fails with an *UnavailableError.
func (p *Program) buildFor(system string) (*build, error) {
	file, err := p.fileFor(system)
	if err != nil {
		return nil, unavailableWith(err)
	}
	b, err := readBuild(file)
	if err != nil {
		return nil, unreadable(system, file, err)
	}
	return b, nil
}

func unreadable(system, file string, err error) error {
	if system != ownSystem {
		return unavailable("it runs %s, and %s cannot be read", system, file)
	}
	return unavailable("this program cannot be read: %v", err)
}

// Await waits until a program that was started at a far end tells, behind the marker, that it is ready to serve. What
// it returns reads what comes then.
func Await(ctx context.Context, stream Stream, marker string) (io.Reader, error) {
	d := &dialogue{ctx: ctx, in: bufio.NewReaderSize(stream, 256<<10), out: stream, stream: stream, marker: marker}
	said, err := d.hear(startLimit)
	if err == nil && said != "ready" {
		err = unavailable("%s", printable(said))
	}
	return d.in, err
}

// Marker makes up what the first line of an agent begins with.
func Marker() string { return "tartine-" + rand.Text() }

// build is a program for one system. Its bytes are read when they are sent: there are many.
type build struct {
	file   string
	size   int64
	sha256 string
}

// sums are the digests of a program, in hex.
type sums struct{ sha256, blake2b string }

func readBuild(file string) (*build, error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	sha := sha256.New()
	size, err := io.Copy(sha, in)
	if err != nil {
		return nil, err
	}
	return &build{file, size, hex.EncodeToString(sha.Sum(nil))}, nil
}

func (b *build) sums() (sums, error) {
	in, err := os.Open(b.file)
	if err != nil {
		return sums{}, err
	}
	defer in.Close()
	blake := must(blake2b.New512(nil))
	_, err = io.Copy(blake, in)
	return sums{b.sha256, hex.EncodeToString(blake.Sum(nil))}, err
}

// pack gives the program as gzip has it.
func (b *build) pack() ([]byte, error) {
	in, err := os.Open(b.file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	packed := bytes.NewBuffer(make([]byte, 0, b.size/2))
	w := must(gzip.NewWriterLevel(packed, gzip.BestSpeed))
	if _, err := io.Copy(w, in); err != nil {
		return nil, err
	}
	err = w.Close()
	return packed.Bytes(), err
}

func ownBuild(file string) (*build, error) {
	file, err := ownFile(file)
	if err != nil {
		return nil, err
	}
	return readBuild(file)
}

// ownFile gives the file of this program. Where the system does not tell, it is the one that was started.
func ownFile(file string) (string, error) {
	if file != "" {
		return file, nil
	}
	file, err := os.Executable()
	if err != nil && filepath.IsAbs(os.Args[0]) {
		return os.Args[0], nil
	}
	return file, err
}

// ownSums gives the digests of this program. They are remembered by the size and time of the program's file, since to
// digest it takes longer than to connect.
func ownSums(file string) (sums, error) {
	file, err := ownFile(file)
	if err != nil {
		return sums{}, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return sums{}, err
	}
	facts := fmt.Sprintf("%s %d %d ", file, info.Size(), info.ModTime().UnixNano())
	memory := ""
	if dir, err := os.UserCacheDir(); err == nil {
		memory = filepath.Join(dir, "tartine", "program")
		if text, err := os.ReadFile(memory); err == nil {
			known, ok := strings.CutPrefix(string(text), facts)
			if both := sumsPattern.FindStringSubmatch(known); ok && both != nil {
				return sums{both[1], both[2]}, nil
			}
		}
	}
	own, err := readBuild(file)
	if err != nil {
		return sums{}, err
	}
	found, err := own.sums()
	if err != nil {
		return sums{}, err
	}
	if memory != "" && os.MkdirAll(filepath.Dir(memory), 0o700) == nil {
		_ = os.WriteFile(memory, []byte(facts+found.sha256+" "+found.blake2b), 0o600) // it only saves time
	}
	return found, nil
}

var sumsPattern = regexp.MustCompile(`^([0-9a-f]{64}) ([0-9a-f]{128})$`)

// copyName gives the name of the copy of a program.
func copyName(digest string) string { return "agent-" + digest[:24] }

// systems gives Go's names of what uname prints.
var systems = map[string]string{
	"Linux x86_64": "linux/amd64", "Linux aarch64": "linux/arm64", "Darwin x86_64": "darwin/amd64",
	"Darwin arm64": "darwin/arm64",
}

// dialogue is the talk with the shell.
type dialogue struct {
	ctx    context.Context
	in     *bufio.Reader
	out    io.Writer
	stream io.Closer
	marker string

	arrived func(bytes int64)
	begins  string // the part of scripts that begins the program

	patience time.Duration // see Program
}

// The scripts hold no backslash and leave nothing behind when they are broken off, but what arrived of a copy. M is the
// marker, N the name of the copy, X its SHA-256, and Y its BLAKE2b, which takes a third of the time where a program
// computes it.
const (
	startScript = `m='M'; n='N'; x='X'; y='Y'; u=$(id -u); d="${XDG_CACHE_HOME:-$HOME/.cache}/tartine"; f="$d/$n"
ours() { [ -n "$(find "$1" -prune -user "$u" ! -perm -020 ! -perm -002 ! -type l 2>/dev/null)" ]; }
safe() { ( cd -P "$1" 2>/dev/null || exit 1; p=$(pwd -P); ours "$p" || exit 1; while [ "$p" != / ]; do p=${p%/*}; p=${p:-/}; [ -n "$(find "$p" -prune '(' -user "$u" -o -user 0 ')' '(' ! -perm -020 ! -perm -002 -o -perm -1000 ')' 2>/dev/null)" ] || exit 1; done ) }
sum() { if command -v b2sum >/dev/null 2>&1; then b2sum <"$1"; elif command -v sha256sum >/dev/null 2>&1; then sha256sum <"$1"; elif command -v shasum >/dev/null 2>&1; then shasum -a 256 <"$1"; fi; }
right() { case "$(sum "$1" 2>/dev/null)" in "$x "*|"$y "*) return 0;; esac; return 1; }
if [ -x "$f" ] && safe "$d" && ours "$f" && right "$f"; then touch -c "$f" 2>/dev/null; go "$f"
else echo "$m missing $(uname -s) $(uname -m)"; fi
`
	installedScript = `m='M'; f='P'
if [ -x "$f" ]; then exec "$f" far-end --marker "$m"; fi
echo "$m missing"
`
	uploadScript = `umask 077
runs() { mkdir -p "$1" 2>/dev/null && [ -w "$1" ] && safe "$1" && ( set -C; echo '#!/bin/sh' >"$1/.try-$$" ) 2>/dev/null && chmod 700 "$1/.try-$$" && ( "$1/.try-$$" ) 2>/dev/null; r=$?; rm -f "$1/.try-$$" 2>/dev/null; return $r; }
own=
if ! runs "$d"; then d=$(mktemp -d 2>/dev/null) && own="$d" && runs "$d" || { [ -n "$own" ] && rm -rf "$own"; d=; }; fi
if [ -z "$d" ]; then echo "$m failed no folder can hold a program that runs"; else
t="$d/.$n-$$"; f="$d/$n"; w=plain; b=PLAIN
if command -v gzip >/dev/null 2>&1; then w=gzip; b=GZIPPED; fi
p="$d/.$n.$w"; by=
if ! ( set -C; echo $$ >"$p.by" ) 2>/dev/null && read q <"$p.by" && kill -0 "$q" 2>/dev/null; then p="$t.$w"; else by="$p.by"; echo $$ >"$by"; fi
gone() { rm -f "$t"; [ -z "$by" ] || rm -f "$by"; [ "$p" = "$d/.$n.$w" ] || rm -f "$p"; [ -z "$own" ] || rm -rf "$own"; }
trap gone EXIT
trap 'exit 1' HUP INT TERM PIPE
ours "$p" || rm -f "$p"
s=0; [ ! -f "$p" ] || s=$(wc -c <"$p" 2>/dev/null) || s=$((b + 1)); if [ "$s" -gt "$b" ]; then rm -f "$p"; s=0; fi
echo "$m send $w $((s))"
head -c $((b - s)) >>"$p"
if [ -z "$(find "$p" -prune -size "${b}c")" ]; then echo "$m failed the copy did not arrive"; else
rm -f "$t"; if [ "$w" = gzip ]; then ( set -C; gzip -dc <"$p" >"$t" ); else mv "$p" "$t"; fi
rm -f "$p"
if chmod 700 "$t" && { [ -z "$(sum "$t" 2>/dev/null)" ] || right "$t"; } && "$t" far-end --check "$x" && mv "$t" "$f"; then
trap - EXIT HUP INT TERM PIPE
[ -z "$by" ] || rm -f "$by"
find "$d" -name 'agent-*' ! -name "$n" -mtime +1 -exec rm -f {} + 2>/dev/null
find "$d" -name '.agent-*' -mmin +60 -exec rm -f {} + 2>/dev/null
go "$f" "$own"
else
gone
echo "$m failed the copy does not run there"
fi
fi
fi
`
)

func (d *dialogue) say(script string, with ...string) error {
	script = strings.NewReplacer(append([]string{"'M'", "'" + d.marker + "'"}, with...)...).Replace(script)
	if _, err := io.WriteString(d.out, script); err != nil {
		return d.lost("no shell answers")
	}
	return nil
}

// lost tells why nothing comes: the connection is gone, or only the shell.
func (d *dialogue) lost(reason string) error {
	if living, ok := d.stream.(interface{ Lost() bool }); ok && living.Lost() {
		return fmt.Errorf("%w before the agent began", farend.ErrLost)
	}
	return unavailable("%s", reason)
}

// hear waits for a line with the marker and gives what is behind it. The stream is ended when it does not come.
func (d *dialogue) hear(limit time.Duration) (string, error) {
	ctx, cancel := context.WithTimeout(d.ctx, limit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { d.stream.Close() })
	defer stop()
	began := time.Now()
	heard := 0
	for {
		line, err := d.in.ReadSlice('\n')
		heard += len(line)
		switch {
		case d.ctx.Err() != nil:
			return "", d.ctx.Err()
		case ctx.Err() != nil:
			return "", unavailable("no answer within %s", limit)
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return "", d.lost("no shell answers")
		case heard > maxTextual:
			return "", unavailable("the login prints more than %d bytes", maxTextual)
		}
		if _, said, ok := bytes.Cut(line, []byte(d.marker+" ")); ok {
			answer := strings.TrimSpace(string(said))
			trace.Log(ctx).Debug("agent shell", "said", printable(answer), "took", time.Since(began).Round(time.Microsecond))
			return answer, nil
		}
	}
}

// first says the first script, and waits until a shell answers.
func (d *dialogue) first(script string, with ...string) error {
	if err := d.say("echo 'M' shell\n"+script, with...); err != nil {
		return err
	}
	said, err := d.hear(cmp.Or(d.patience, shellLimit))
	if err == nil && said != "shell" {
		err = unavailable("what the login runs reads what is meant for the shell")
	}
	return err
}

func (d *dialogue) startInstalled(path string, raised bool) (said string, err error) {
	if strings.ContainsAny(path, "'\n") {
		return "", unavailable("%q cannot be the name of a program", path)
	}
	script := installedScript
	if raised {
		script = "m='M'; u=$(id -u)\n" + d.begins + installedRaised
	}
	if err := d.first(script, "'P'", "'"+path+"'"); err != nil {
		return "", err
	}
	said, err = d.hear(startLimit)
	if err == nil && said == "missing" {
		err = unavailable("there is no program %s", path)
	}
	return said, err
}

// startCopy starts the copy that exists there; where none does it gives the system that the far end runs.
func (d *dialogue) startCopy(own sums) (said, system string, err error) {
	if err := d.first(d.begins+startScript, "'N'", "'"+copyName(own.sha256)+"'", "'X'", "'"+own.sha256+"'",
		"'Y'", "'"+own.blake2b+"'"); err != nil {
		return "", "", err
	}
	said, err = d.hear(startLimit)
	uname, missing := strings.CutPrefix(said, "missing ")
	if err != nil || !missing {
		return said, "", err
	}
	if system = systems[uname]; system == "" {
		return "", "", unavailable("it runs %s, for which there is no build", printable(uname))
	}
	return "", system, nil
}

// upload copies the program there and starts it, and gives what the far end says then.
func (d *dialogue) upload(b *build) (said string, err error) {
	packed, err := b.pack()
	if err != nil {
		return "", unavailable("the program cannot be read: %v", err)
	}
	if err = d.say(uploadScript, "GZIPPED", fmt.Sprint(len(packed)), "PLAIN", fmt.Sprint(b.size)); err != nil {
		return "", err
	}
	if said, err = d.hear(startLimit); err != nil {
		return "", err
	}
	var (
		way    string
		stands int64
		all    = io.NewSectionReader(bytes.NewReader(packed), 0, int64(len(packed)))
	)
	if n, _ := fmt.Sscanf(said, "send %s %d", &way, &stands); n != 2 {
		return "", unavailable("%s", printable(strings.TrimPrefix(said, "failed ")))
	}
	if way == "plain" {
		file, err := os.Open(b.file)
		if err != nil {
			return "", unavailable("the program cannot be read: %v", err)
		}
		defer file.Close()
		all = io.NewSectionReader(file, 0, b.size)
	}
	if stands < 0 || stands > all.Size() {
		return "", unavailable("%s", printable(said))
	}
	if d.arrived != nil && stands > 0 {
		d.arrived(stands)
	}
	if _, err := io.Copy(d.out, io.NewSectionReader(all, stands, all.Size()-stands)); err != nil {
		return "", d.lost("the copy was broken off")
	}
	return d.hear(uploadLimit)
}

// Ready is what the agent says, behind the marker, before the protocol begins.
func Ready(out io.Writer, marker string) error {
	_, err := fmt.Fprintf(out, "%s ready\n", marker)
	return err
}

// Check tells whether this program is the one with a digest, in hex.
func Check(digest string) error {
	own, err := ownBuild("")
	if err == nil && own.sha256 != digest {
		err = errors.New("the copy is not what was sent")
	}
	return err
}
