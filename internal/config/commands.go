package config

import (
	"fmt"
	"net/url"
	"strings"
	"time"
)

// Line is a program and its arguments, written as a list, or a line for a shell, written as a text.
type Line struct {
	Words []Text
	Shell Text
}

// IsSet tells whether there is anything to run.
func (l *Line) IsSet() bool { return len(l.Words) > 0 || l.Shell.Value != "" }

// At gives where it is written.
func (l *Line) At() Position {
	if len(l.Words) > 0 {
		return l.Words[0].At
	}
	return l.Shell.At
}

// Command is a program that runs before or after a publish: here or there, one of both.
type Command struct {
	Here    Line `yaml:"here" doc:"what runs on this machine, in the folder of the settings: a list of a program and its arguments, or a line for the shell"`
	There   Line `yaml:"there" doc:"what runs at the far end, in the root of the site, likewise"`
	Timeout Text `yaml:"timeout" doc:"how long it may take, as in 30s or 10m (5m)"`

	At Position `yaml:"-"`
}

// Check is a question whether a site is well after a publish: one of url, web, here and there.
type Check struct {
	URL      Text `yaml:"url" doc:"an https:// address that is asked for"`
	Status   int  `yaml:"status" doc:"with url, the status that it must answer with (200)"`
	Contains Text `yaml:"contains" doc:"with url, a text that the answer must have in it"`
	Web      Text `yaml:"web" enum:"changed" doc:"changed: what was published must come through the web, by the address in the target's web:, as it was sent"`
	Here     Line `yaml:"here" doc:"what must succeed on this machine, as in after_publish"`
	There    Line `yaml:"there" doc:"what must succeed at the far end, likewise"`
	Timeout  Text `yaml:"timeout" doc:"how long one try may take, as in 10s (5m; of an address 30s)"`
	Within   Text `yaml:"within" doc:"how long it is tried again until it succeeds, as in 30s (as the target's within:)"`

	At Position `yaml:"-"`
}

// checkCommands checks what a target says of commands and checks.
func (t *Target) checkCommands() error {
	for _, list := range [][]Command{t.BeforePublish, t.AfterPublish} {
		for i := range list {
			if err := list[i].check(); err != nil {
				return err
			}
		}
	}
	for i := range t.Check {
		if err := t.Check[i].check(t); err != nil {
			return err
		}
	}
	for _, need := range []struct {
		is   bool
		what string
	}{{t.WebCheck, "web_check"}, {t.WebCA.Value != "", "web_ca"}, {t.WebUser.Value != "", "web_user"}} {
		if need.is && t.Web.Value == "" {
			return &Error{t.URL.At, need.what + " needs the address at which visitors see the site", "add web: https://HOST/PATH/ to the target"}
		}
	}
	if t.WebPassword.IsSet() && t.WebUser.Value == "" {
		return &Error{t.WebPassword.At, "web_password is for a user", "add web_user: NAME"}
	}
	return checkTime(t.Within, "within")
}

func (c *Command) check() error {
	switch {
	case c.Here.IsSet() && c.There.IsSet():
		return &Error{c.There.At(), "a command runs here or there, not both", "write two entries, in their order"}
	case !c.Here.IsSet() && !c.There.IsSet():
		return &Error{c.At, "a command needs here: or there:", "write as in there: [nginx, -t]"}
	}
	return checkTime(c.Timeout, "timeout")
}

func (c *Check) check(t *Target) error {
	set := 0
	for _, is := range []bool{c.URL.Value != "", c.Web.Value != "", c.Here.IsSet(), c.There.IsSet()} {
		if is {
			set++
		}
	}
	switch {
	case set != 1:
		return &Error{c.At, "a check is one of url:, web:, here: and there:", "write an entry for each"}
	case c.URL.Value == "" && (c.Status != 0 || c.Contains.Value != ""):
		return &Error{c.At, "status and contains are for checks of an address", "take them out, or add url:"}
	case c.Status != 0 && (c.Status < 100 || c.Status > 599):
		return &Error{c.At, fmt.Sprintf("status %d is not one that servers answer with", c.Status), "write it as in status: 200"}
	case c.Web.Value != "" && t.Web.Value == "":
		return &Error{c.Web.At, "a check through the web needs the address at which visitors see the site", "add web: https://HOST/PATH/ to the target"}
	}
	if c.URL.Value != "" {
		if parsed, err := url.Parse(c.URL.Value); err != nil || !IsWeb(c.URL.Value) || parsed.Host == "" || parsed.User != nil {
			return &Error{c.URL.At, fmt.Sprintf("url %q is not an address of the web", c.URL.Value), "it reads https://HOST/PATH"}
		}
	}
	if err := checkTime(c.Timeout, "timeout"); err != nil {
		return err
	}
	return checkTime(c.Within, "within")
}

// checkTime checks a length of time.
func checkTime(t Text, what string) error {
	length, err := time.ParseDuration(t.Value)
	if t.Value != "" && (err != nil || length <= 0 || length > 24*time.Hour) {
		return &Error{t.At, fmt.Sprintf("%s %q is not a length of time up to a day", what, strings.TrimSpace(t.Value)), "write it as in 30s or 5m"}
	}
	return nil
}
