package agent

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"tartine/internal/farend"
)

// An agent may run as another user than the one who logs in, through sudo, doas or su of the far end. What is raised is
// the program that we wrote and nothing else: a copy in a folder of its own, which belongs to who logs in, out of which
// nobody else can take it, and which is made anew for each session (the user that it runs as may not enter the folder
// where copies are kept). Its digest is compared after it was copied there. One that is installed counts when it and the
// folders above it belong to root or to who logs in, and nobody else may write there.
//
// First it is tried without a password. Where one is wanted it is asked for, up to three times, and is written to the
// program that asks alone: it is no argument, in no variable, and nothing repeats it. Where that program wants a terminal,
// the dialogue is begun anew with one (TerminalError), which is set to pass all bytes as they are.
//
// The shell waits for what it raised and removes the copy afterwards. A process beside it does so where the shell is killed.

// Raise says as whom the agent is to run.
type Raise struct {
	User string
	With string // sudo, doas or su; empty: the first of them that is there
	// Password gives the password that is asked for. Try counts from 1; nobody to ask, or the same again, is an error.
	Password func(try int) (string, error)
	Terminal bool // the shell has a terminal
}

// userPattern is the names of users that are taken.
var userPattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,63}$`)

// IsUser tells whether a text can be the name of a user.
func IsUser(name string) bool { return userPattern.MatchString(name) }

// RaiseError tells that the agent could not be run as another user.
type RaiseError struct {
	User, With string
	Reason     string
	Password   error // why no password was given; nil: one was, or none was wanted
}

func (e *RaiseError) Error() string {
	with := e.With
	if with == "" {
		with = "sudo, doas or su"
	}
	return fmt.Sprintf("nothing can be run as %s there with %s: %s", e.User, with, e.Reason)
}

func (e *RaiseError) Unwrap() error { return e.Password }

// TerminalError tells that it is to be tried again behind a shell that has a terminal.
type TerminalError struct{ *RaiseError }

func (e *TerminalError) Unwrap() error { return e.RaiseError }

// mostTries is how often a password is asked for.
const mostTries = 3

// The ways in which a program is begun: as it is, or prepared to be raised.
const (
	goPlainly = `go() { if [ -n "${2-}" ]; then exec "$1" far-end --marker "$m" --remove "$2"; fi; exec "$1" far-end --marker "$m"; }
`
	// It leaves in c the program that is to be raised, and in k a folder for it, and says which way there is.
	goRaised = `v='V'; how='W'
go() {
if [ "$(id -un)" = "$v" ]; then if [ -n "${2-}" ]; then exec "$1" far-end --marker "$m" --remove "$2"; fi; exec "$1" far-end --marker "$m"; fi
k=
for b in /tmp /var/tmp /dev/shm "$d"; do
k=$(mktemp -d "$b/tartine-XXXXXXXXXXXX" 2>/dev/null) || { k=; continue; }
c="$k/agent"
if safe "$k" && ( umask 077; set -C; cat "$1" >"$c" ) 2>/dev/null && chmod 755 "$c" "$k" && ours "$c" && { [ -z "$(sum "$c" 2>/dev/null)" ] || right "$c"; } && "$c" far-end --check "$x" >/dev/null 2>&1; then break; fi
rm -rf "$k"; k=
done
if [ -n "${2-}" ]; then rm -rf "$2"; fi
[ -n "$k" ] || { echo "$m failed no folder can hold a program that another user may run"; return; }
ready
}
ready() {
trap 'trap "" HUP INT TERM PIPE; rm -rf "$k"' EXIT
trap 'trap "" HUP INT TERM PIPE; exit 1' HUP INT TERM PIPE
( trap "" HUP INT TERM PIPE; while kill -0 $$ 2>/dev/null; do sleep 1; done; rm -rf "$k" ) </dev/null >/dev/null 2>&1 &
if [ -z "$how" ]; then for how in sudo doas su none; do ! command -v "$how" >/dev/null 2>&1 || break; done; fi
if [ "$how" = none ] || ! command -v "$how" >/dev/null 2>&1; then echo "$m prepared none"; else echo "$m prepared $how $(id -u)"; fi
}
said() { s=$?; echo "$m refused $s $(tr -c '[:print:]' ' ' <"$k/said" 2>/dev/null | head -c 400)"; }
`
	// An installed program is not copied.
	installedRaised = `c='P'
held() { p=$(cd -P "${1%/*}/" 2>/dev/null && pwd -P) || return 1; [ -n "$(find "$1" -prune '(' -user "$u" -o -user 0 ')' ! -perm -020 ! -perm -002 ! -type l 2>/dev/null)" ] || return 1; while :; do [ -n "$(find "$p" -prune '(' -user "$u" -o -user 0 ')' ! -perm -020 ! -perm -002 2>/dev/null)" ] || return 1; [ "$p" != / ] || return 0; p=${p%/*}; p=${p:-/}; done; }
if [ ! -x "$c" ]; then echo "$m missing"; elif ! held "$c"; then echo "$m failed others may write to $c, or replace it"; else k=$(mktemp -d) || k=; ready; fi
`
)

// raising is how the programs are asked: without a password, with one through standard input (empty: they take none there),
// with one at a terminal.
var raising = map[string]struct{ plain, piped, terminal string }{
	"sudo": {`LC_ALL=C sudo -n -u "$v" -- "$c" far-end --marker "$m" 2>"$k/said"; said`,
		`LC_ALL=C sudo -S -p "$m password
" -u "$v" -- "$c" far-end --marker "$m" --hushed 2>&1; said`,
		`LC_ALL=C sudo -p "$m password
" -u "$v" -- "$c" far-end --marker "$m" --hushed 2>&1; said`},
	"doas": {`doas -n -u "$v" "$c" far-end --marker "$m" 2>"$k/said"; said`, "",
		`doas -u "$v" "$c" far-end --marker "$m" --hushed 2>&1; said`},
	"su": {`LC_ALL=C su -s /bin/sh -c "exec '$c' far-end --marker '$m'" "$v" 2>"$k/said"; said`, "",
		`LC_ALL=C su -s /bin/sh -c "exec '$c' far-end --marker '$m' --hushed" "$v" 2>&1; said`},
}

// begins gives the script that says how the program is begun.
func (p *Program) begins() string {
	if p.As == nil {
		return goPlainly
	}
	return strings.NewReplacer("'V'", "'"+p.As.User+"'", "'W'", "'"+p.As.With+"'").Replace(goRaised)
}

// raise runs what is prepared as another user. Said is what the far end said of it.
func (d *dialogue) raise(r *Raise, said string) error {
	var (
		with string
		uid  int
	)
	if n, _ := fmt.Sscanf(said, "prepared %s %d", &with, &uid); n != 2 || raising[with].terminal == "" {
		reason := "none of them is installed there"
		if r.With != "" {
			reason = "it is not installed there"
		}
		return &RaiseError{User: r.User, With: r.With, Reason: reason}
	}
	how := raising[with]
	reason := ""
	if !r.Terminal && (with != "su" || uid == 0) {
		began, words, err := d.attempt(how.plain)
		if began || err != nil {
			return err
		}
		if reason = words; !wantsPassword(reason) && !wantsTerminal(reason) {
			return &RaiseError{User: r.User, With: with, Reason: orNothing(reason)}
		}
	}
	failed := &RaiseError{User: r.User, With: with, Reason: orNothing(reason)}
	command := how.piped
	if r.Terminal {
		command = how.terminal
	}
	if command == "" {
		failed.Reason = "it asks for a password at a terminal"
		return &TerminalError{failed}
	}
	return d.withPassword(r, failed, command)
}

// withPassword answers a program that asks for a password.
func (d *dialogue) withPassword(r *Raise, failed *RaiseError, command string) error {
	try := 0
	for {
		if err := d.say(command + "\n"); err != nil {
			return err
		}
		for {
			said, words, err := d.hearPrompt(startLimit)
			switch {
			case err != nil:
				return err
			case said == "ready":
				return nil
			case said == "password":
				if try++; try > mostTries {
					failed.Reason = fmt.Sprintf("the password was wrong %d times", mostTries)
					return failed
				}
				password, err := r.Password(try)
				if err != nil {
					failed.Reason, failed.Password = "it wants a password", err
					if try > 1 {
						failed.Reason, failed.Password = "the password is wrong", err
					}
					return failed
				}
				if _, err := d.out.Write([]byte(strings.TrimRight(password, "\r\n") + "\n")); err != nil {
					return d.lost("no shell answers")
				}
				continue
			}
			failed.Reason = orNothing(words)
			switch {
			case wantsTerminal(words) && !r.Terminal:
				return &TerminalError{failed}
			case try == 0 || try >= mostTries || !wasWrong(words):
				if wasWrong(words) && try >= mostTries {
					failed.Reason = fmt.Sprintf("the password was wrong %d times", mostTries)
				}
				return failed
			}
			break // it asks once in each run
		}
	}
}

// attempt runs a command that asks nothing. It tells whether the agent began, or else what was said.
func (d *dialogue) attempt(command string) (began bool, words string, err error) {
	if err := d.say(command + "\n"); err != nil {
		return false, "", err
	}
	said, err := d.hear(startLimit)
	if err != nil || said == "ready" {
		return said == "ready", "", err
	}
	rest := strings.TrimPrefix(said, "refused ")
	_, words, _ = strings.Cut(rest, " ")
	return false, printable(words), nil
}

func wantsPassword(words string) bool {
	return containsAny(words, "password is required", "Authorization required", "terminal is required", "Authentication")
}

func wantsTerminal(words string) bool {
	return containsAny(words, "must have a tty", "terminal is required", "a tty is required", "must be run from a terminal")
}

func wasWrong(words string) bool {
	return containsAny(words, "incorrect password", "Sorry, try again", "Authentication failed", "Authentication failure", "Authorization failed", "incorrect")
}

func containsAny(text string, parts ...string) bool {
	return slices.ContainsFunc(parts, func(part string) bool { return strings.Contains(text, part) })
}

func orNothing(words string) string {
	return cmp.Or(strings.TrimSpace(words), "it does not say why")
}

// hearPrompt waits for a line with the marker, or for a prompt without an end of its line, which is "password". Words is
// what else was said before.
func (d *dialogue) hearPrompt(limit time.Duration) (said, words string, err error) {
	ctx, cancel := context.WithTimeout(d.ctx, limit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { d.stream.Close() })
	defer stop()
	var line, before strings.Builder
	for heard := 0; heard < maxTextual; heard++ {
		b, err := d.in.ReadByte()
		switch {
		case d.ctx.Err() != nil:
			return "", "", d.ctx.Err()
		case ctx.Err() != nil:
			return "", "", unavailable("no answer within %s", limit)
		case err != nil:
			return "", "", d.lost("no shell answers")
		}
		if b != '\n' {
			line.WriteByte(b)
			if text := line.String(); d.in.Buffered() == 0 && strings.HasSuffix(text, "assword: ") {
				return "password", farend.Said(before.String(), 400), nil
			}
			continue
		}
		text := line.String()
		line.Reset()
		if _, said, ok := strings.Cut(text, d.marker+" "); ok {
			said = strings.TrimSpace(said)
			if strings.HasPrefix(said, "refused ") {
				said = "refused"
			}
			return said, farend.Said(before.String(), 400), nil
		}
		before.WriteString(text + " ")
	}
	return "", "", unavailable("the login prints more than %d bytes", maxTextual)
}
