package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/config"
	"tartine/internal/content"
	"tartine/internal/filter"
	"tartine/internal/render"
)

// flags is every flag that more than one command has.
type flags struct {
	config                       string
	source                       sourceFlags
	include, exclude             []string
	identity, knownHosts, pinned string
	sshConfig                    string
	waitForHost, reconnect       time.Duration
	limitRate, agent, as         string
	format                       string
	quiet, noColor, yes          bool
	detail                       int // how often --verbose was given
	log                          string
	noCache, insecure            bool
	resolve                      []string
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
	cmd.Flags().StringVarP(&a.flags.config, "config", "c", "",
		"the settings `FILE` (tartine.yaml here, or above in the same repository or home folder)")
}

func (a *app) contentFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	a.sourceFlags(cmd)
	a.ruleFlags(cmd)
	f.BoolVar(&a.flags.noCache, "no-cache", false, "read every file, whatever the digest cache knows")
	a.insecureFlag(cmd)
}

// insecureFlag is for commands that log in, and for those that read content.
func (a *app) insecureFlag(cmd *cobra.Command) {
	if cmd.Flags().Lookup("insecure") == nil {
		cmd.Flags().BoolVar(&a.flags.insecure, "insecure", false, "let a password cross the connection in the clear (ftp://), and content come so (http://)")
	}
}

func (a *app) ruleFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&a.flags.include, "include", nil, "take only what matches this `PATTERN`, or another include (repeatable)")
	f.StringArrayVar(&a.flags.exclude, "exclude", nil, "leave out what matches this `PATTERN` (repeatable)")
}

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
	from     *fromSite // the target that content comes from; nil: none is
	last     []string  // patterns of what is published last; nil: the usual
}

func (a *app) load() (l loaded, err error) {
	if l.settings, err = a.settings(); err != nil {
		return l, err
	}
	if l.scan, err = a.scanOptions(l.settings); err != nil {
		return l, err
	}
	if l.sources, l.rules, err = a.sources(l.settings, l.scan.Cache); err != nil {
		return l, err
	}
	if len(a.from) > 0 {
		l.from = a.from[0]
	}
	l.last, err = lastOf(l.settings)
	return l, err
}

// lastOf gives the patterns of what is published last; nil: the usual.
func lastOf(s *config.Settings) (patterns []string, err error) {
	rules := &ruleMaker{}
	for _, rule := range rules.make(s.Last, "last") {
		patterns = append(patterns, rule.Pattern)
	}
	return patterns, rules.err
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
	for i := range s.Attributes {
		a := &s.Attributes[i]
		own := content.Attribute{Rule: rules.one(a.Match.Value, "attributes in "+a.Match.At.String()), Folders: strings.HasSuffix(a.Match.Value, "/"),
			User: a.Owner.Value, Group: a.Group.Value}
		if bits, err := strconv.ParseUint(a.Mode.Value, 8, 32); err == nil { // it was checked
			mode := fs.FileMode(bits)
			own.Mode = &mode
		}
		opt.Attributes = append(opt.Attributes, own)
	}
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

// withoutOwners leaves out to whom files should belong: in an archive everything is its reader's.
func withoutOwners(opt *content.Options) {
	opt.Attributes = slices.Clone(opt.Attributes)
	for i := range opt.Attributes {
		opt.Attributes[i].User, opt.Attributes[i].Group = "", ""
	}
}

// warnUnused names the rules that matched nothing.
func warnUnused(p *render.Printer, rules []*filter.Rule) {
	for _, r := range rules {
		if !r.Used() {
			p.Warn("%q matches nothing (%s)", r.Pattern, r.Place)
		}
	}
}
