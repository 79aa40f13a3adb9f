package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/content"
	"tartine/internal/filter"
	"tartine/internal/render"
	"tartine/internal/target"
)

// flags is every flag that more than one command has.
type flags struct {
	config                       string
	sources                      []string
	include, exclude             []string
	identity, knownHosts, pinned string
	sshConfig                    string
	waitForHost, reconnect       time.Duration
	limitRate, agent             string
	format                       string
	quiet, noColor, yes          bool
	detail                       int // how often --verbose was given
	log                          string
	noCache, insecure            bool
	jobs                         int
}

func (a *app) outputFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&a.flags.format, "format", "text", "what is written to standard output, in this `FORM`: text, json, or jsonl (events, one a line)")
	f.BoolVarP(&a.flags.quiet, "quiet", "q", false, "write nothing but warnings and errors")
	f.CountVarP(&a.flags.detail, "verbose", "v", "list every name, and say what is decided; twice (-vv): also what crosses the wire")
	f.StringVar(&a.flags.log, "log", "", "add all that -vv says, with times, to this `FILE`")
	f.BoolVar(&a.flags.noColor, "no-color", false, "no colours (as with NO_COLOR set)")
}

func (a *app) configFlag(cmd *cobra.Command) {
	cmd.Flags().StringVarP(&a.flags.config, "config", "c", "", "the settings `FILE` (tartine.yaml here, or above in the same repository or home folder)")
}

func (a *app) contentFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&a.flags.sources, "source", nil, "take the content from this `DIR` or file, not from the settings (repeatable)")
	f.StringArrayVar(&a.flags.include, "include", nil, "take only what matches this `PATTERN`, or another include (repeatable)")
	f.StringArrayVar(&a.flags.exclude, "exclude", nil, "leave out what matches this `PATTERN` (repeatable)")
	f.BoolVar(&a.flags.noCache, "no-cache", false, "read every file, whatever the digest cache knows")
}

func (a *app) targetFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&a.flags.identity, "identity", "", "log in with this private key `FILE`")
	f.StringVar(&a.flags.sshConfig, "ssh-config", "", "read OpenSSH's client settings from this `FILE` alone; none: from no file")
	f.StringVar(&a.flags.knownHosts, "known-hosts", "", "look host keys up in this `FILE`, not in the user's, and in the system's")
	f.StringVar(&a.flags.pinned, "fingerprint", "", "accept the host key with this `FINGERPRINT`, SHA256:…, and no other; of an ftps:// server, the certificate")
	f.BoolVar(&a.flags.insecure, "insecure", false, "let a password cross the line where others can read it (ftp://)")
	f.DurationVar(&a.flags.waitForHost, "wait-for-host", 0, "try again for so long until a new machine lets us in, as in 90s or 2m")
	f.DurationVar(&a.flags.reconnect, "reconnect", defaultReconnect, "try for so long to open a line again that was lost; 0: not at all")
	f.StringVar(&a.flags.limitRate, "limit-rate", "", "send and receive no more than this `RATE`, as in 500kB/s or 5MB/s")
	f.StringVar(&a.flags.agent, "agent", "", "what runs next to the files at the far end: auto, off, or the `PATH` of a program there (auto)")
	f.IntVar(&a.flags.jobs, "jobs", 0, "how many files are in flight at once (16)")
}

// defaultReconnect is how long a lost line is tried to be opened again. A lock runs out after as long.
const defaultReconnect = 2 * time.Minute

// settings loads the settings and applies the flags to them.
func (a *app) settings() (*config.Settings, error) {
	switch a.flags.format {
	case "", "text", "json": // commands without the flag write text
	case "jsonl":
		if _, ok := a.stdout.(*render.Lines); !ok {
			a.stdout = render.NewLines(a.stdout)
		}
	default:
		return nil, usageError(fmt.Sprintf("--format is text, json or jsonl, not %q", a.flags.format), "")
	}
	if a.flags.jobs < 0 {
		return nil, usageError("--jobs is a number from 1 up", "")
	}
	if agent := a.flags.agent; agent != "" && agent != "auto" && agent != "off" && !strings.HasPrefix(agent, "/") {
		return nil, usageError(fmt.Sprintf("--agent is auto, off, or a path at the far end that begins with /, not %q", agent), "")
	}
	if _, err := config.ParseRate(a.flags.limitRate); err != nil {
		return nil, usageError("--limit-rate: "+err.Error(), "")
	}
	name, err := a.settingsFile()
	if err != nil {
		return nil, err
	}
	if name == "" {
		return &config.Settings{}, nil
	}
	return config.Load(name)
}

// settingsFile gives the settings file, relative to this folder where it is in it or above it; empty: there is none.
func (a *app) settingsFile() (string, error) {
	if a.flags.config != "" {
		return a.flags.config, nil
	}
	dir, err := os.Getwd()
	if err != nil {
		return "", err
	}
	home, _ := os.UserHomeDir() // without one, repositories alone count
	name, err := config.Find(dir, home)
	if err != nil || name == "" {
		return "", err
	}
	if short, err := filepath.Rel(dir, name); err == nil {
		name = short
	}
	if filepath.Dir(name) != "." && !a.flags.quiet {
		a.note("the settings are those of " + name)
	}
	return name, nil
}

// loaded is the settings and what follows from them and the flags about the content.
type loaded struct {
	settings *config.Settings
	sources  []content.Source
	rules    []*filter.Rule // all that were made for the sources
	scan     content.Options
	last     []string // patterns of what is published last; nil: the usual
}

func (a *app) load() (l loaded, err error) {
	if l.settings, err = a.settings(); err != nil {
		return l, err
	}
	if l.sources, l.rules, err = a.sources(l.settings); err != nil {
		return l, err
	}
	if l.scan, err = a.scanOptions(l.settings); err != nil {
		return l, err
	}
	rules := &ruleMaker{}
	for _, rule := range rules.make(l.settings.Last, "last") {
		l.last = append(l.last, rule.Pattern)
	}
	return l, rules.err
}

// sources gives the content's sources and the rules that were made for them.
func (a *app) sources(s *config.Settings) ([]content.Source, []*filter.Rule, error) {
	rules := &ruleMaker{}
	shared := filter.Set{Includes: rules.make(s.Include, "include"), Excludes: rules.make(s.Exclude, "exclude")}
	for _, pattern := range a.flags.include {
		shared.Includes = append(shared.Includes, rules.one(pattern, "--include"))
	}
	for _, pattern := range a.flags.exclude {
		shared.Excludes = append(shared.Excludes, rules.one(pattern, "--exclude"))
	}
	var out []content.Source
	for _, dir := range a.flags.sources {
		out = append(out, content.Source{Path: dir, Dest: ".", Rules: &shared})
	}
	if len(out) == 0 {
		for i := range s.Content {
			c := &s.Content[i]
			dest, err := config.CleanDest(c.Dest.Value)
			if err != nil {
				return nil, nil, err
			}
			set := &filter.Set{
				Includes: slices.Concat(shared.Includes, rules.make(c.Include, "include")),
				Excludes: slices.Concat(shared.Excludes, rules.make(c.Exclude, "exclude")),
			}
			out = append(out, content.Source{Path: config.Resolve(c.Source), Dest: dest, Name: c.Name.Value, Rules: set})
		}
	}
	if rules.err != nil {
		return nil, nil, rules.err
	}
	if len(out) == 0 {
		return nil, nil, usageError("there is no content: neither a tartine.yaml with a content list nor --source", `write one with "tartine init", or name a folder with --source DIR`)
	}
	return out, rules.all, nil
}

// ruleMaker makes rules and keeps the first error.
type ruleMaker struct {
	all []*filter.Rule
	err error
}

func (m *ruleMaker) make(patterns []config.Text, kind string) (out []*filter.Rule) {
	for _, p := range patterns {
		out = append(out, m.one(p.Value, kind+" in "+p.At.String()))
	}
	return out
}

func (m *ruleMaker) one(pattern, place string) *filter.Rule {
	rule, err := filter.NewRule(pattern, place)
	if err != nil {
		m.err = errors.Join(m.err, err)
		return &filter.Rule{}
	}
	m.all = append(m.all, rule)
	return rule
}

// scanOptions gives how the content is scanned.
func (a *app) scanOptions(s *config.Settings) (content.Options, error) {
	opt := content.Options{Links: content.Links(s.Links.Value), KeepModes: s.Modes.Value == "keep"}
	if opt.Links == "" {
		opt.Links = content.KeepLinks
	}
	rules := &ruleMaker{}
	opt.Allow = rules.make(s.Guard.Allow, "guard")
	if rules.err != nil {
		return opt, rules.err
	}
	if !a.flags.noCache {
		cache, err := content.UserCache()
		if err == nil { // without a home folder there is none
			opt.Cache = cache
		}
	}
	return opt, nil
}

// warnUnused names the rules that matched nothing.
func warnUnused(p *render.Printer, rules []*filter.Rule) {
	for _, r := range rules {
		if !r.Used() {
			p.Warn("%q matches nothing (%s)", r.Pattern, r.Place)
		}
	}
}

// target finds the target that is meant and how to reach it.
func (a *app) target(s *config.Settings, args []string) (target.Settings, render.Heading, error) {
	var out target.Settings
	var address string
	switch {
	case len(args) == 0 && len(s.TargetNames) == 1:
		out.Name = s.TargetNames[0]
	case len(args) == 0 && len(s.TargetNames) == 0:
		return out, render.Heading{}, usageError("no target is named", "name one: tartine COMMAND ssh://USER@HOST/PATH, or a folder")
	case len(args) == 0:
		return out, render.Heading{}, usageError("the settings have several targets", "name one of them: "+strings.Join(s.TargetNames, ", "))
	case hasTarget(s, args[0]):
		out.Name = args[0]
	case strings.ContainsAny(args[0], `/\:@`) || strings.HasPrefix(args[0], "."):
		address = args[0]
	default:
		return out, render.Heading{}, unknownTarget(s, args[0])
	}
	retire := s.Retire
	if out.Name != "" {
		t := s.Targets[out.Name]
		address = t.URL.Value
		if !strings.Contains(address, "://") && !target.IsShort(address) && len(t.Command) == 0 {
			address = config.Resolve(t.URL)
		}
		out.HostKey, out.Jobs, out.History = t.HostKey.Value, t.Jobs, t.Keep
		if t.Retire.After.Value != "" {
			retire = t.Retire
		}
		if retire.After.Value == "" && t.Web.Value != "" {
			retire.After.Value = retiredOnTheWeb
		}
		for _, host := range t.Via {
			out.Via = append(out.Via, host.Value)
		}
		out.Wait, _ = time.ParseDuration(t.Wait.Value)         // it was checked
		out.RateLimit, _ = config.ParseRate(t.LimitRate.Value) // it was checked
		out.Switch = t.Publish.Value == "switch"
		out.Agent = t.Agent.Value
		out.Certificate, out.Insecure = t.Certificate.Value, t.Insecure
		out.Engine, out.Owner, out.While = t.Engine.Value, t.Owner.Value, t.While.Value
		if t.Restart.Value != "false" {
			out.Restart = t.Restart.Value
		}
		if t.Agents.Value != "" {
			out.Agents = config.Resolve(t.Agents)
		}
		for _, word := range t.Command {
			out.Command = append(out.Command, word.Value)
		}
		switch {
		case t.Identity.Value != "":
			out.Identity = config.Resolve(t.Identity.Text)
		case t.Identity.Key.IsSet():
			out.Key = &connect.KeySource{Name: "of target " + out.Name, Text: a.secretText(t.Identity.Key, "identity of target "+out.Name)}
		}
		if t.Password.IsSet() {
			out.Password = once(a.secret(t.Password, "password of target "+out.Name))
		}
	}
	out.Retire, _ = time.ParseDuration(retire.After.Value) // it was checked
	out.Passphrase, out.Reconnect, out.Told = a.askPassphrase, a.flags.reconnect, a.lineLost
	if a.canAsk() || a.askProgram() != "" {
		out.Ask = a.askAnswer
	}
	if t, named := s.Targets[out.Name]; named && t.Passphrase.IsSet() {
		find := once(a.secret(t.Passphrase, "passphrase of target "+out.Name))
		out.Passphrase, out.Settled = func(string) (string, error) { return find() }, !t.Passphrase.Ask
	}
	var err error
	if out.Address, err = target.ParseAddress(address); err != nil {
		if out.Name != "" {
			err = fmt.Errorf("%s: %w", s.Targets[out.Name].URL.At, err)
		}
		return out, render.Heading{}, err
	}
	a.applyTargetFlags(&out)
	return out, render.Heading{Site: s.Name.Value, Target: out.Name, Address: out.Address.String(), Root: rootOf(out.Address)}, nil
}

func rootOf(a target.Address) string {
	if a.Home {
		return "~/" + a.Path
	}
	return a.Path
}

func (a *app) applyTargetFlags(out *target.Settings) {
	if a.flags.identity != "" {
		out.Identity, out.Key = a.flags.identity, nil
	}
	switch {
	case a.flags.pinned == "":
	case out.Address.Kind == target.FTPS:
		out.Certificate = a.flags.pinned
	default:
		out.HostKey = a.flags.pinned
	}
	out.Insecure = out.Insecure || a.flags.insecure
	if a.flags.jobs > 0 {
		out.Jobs = a.flags.jobs
	}
	if a.flags.agent != "" {
		out.Agent = a.flags.agent
	}
	out.KnownHosts = a.flags.knownHosts
	if rate, _ := config.ParseRate(a.flags.limitRate); rate > 0 {
		out.RateLimit = rate
	}
	if a.flags.waitForHost > 0 {
		out.Wait = a.flags.waitForHost
	}
	switch a.flags.sshConfig {
	case "":
		out.SSHConfig = connect.UserConfig()
	case "none":
	default:
		out.SSHConfig = connect.GivenConfig(a.flags.sshConfig)
	}
	out.Notice = a.note
	out.Between, out.Build = a.build.Between, a.build.String()
	out.Writes, out.Reads, out.Held = a.writes, a.reads, a.wasHeld
}

func hasTarget(s *config.Settings, name string) bool {
	_, ok := s.Targets[name]
	return ok
}

func unknownTarget(s *config.Settings, name string) error {
	mend := "the settings have no target; name an address such as ssh://USER@HOST/PATH, or a folder as ./" + name
	if near := s.NearestTarget(name); near != "" {
		mend = fmt.Sprintf("did you mean %q?", near)
	} else if len(s.TargetNames) > 0 {
		mend = "the settings have: " + strings.Join(s.TargetNames, ", ")
	}
	return usageError(fmt.Sprintf("there is no target %q", name), mend)
}

// retiredOnTheWeb is how long assets stay where visitors are known to come, unless the settings say otherwise.
const retiredOnTheWeb = "10m"
