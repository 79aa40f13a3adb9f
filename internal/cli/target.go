package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/render"
	"tartine/internal/targets"
)

func (a *app) targetFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&a.flags.identity, "identity", "", "log in with this private key `FILE`")
	f.StringVar(&a.flags.sshConfig, "ssh-config", "", "read OpenSSH's client settings from this `FILE` alone; none: from no file")
	f.StringVar(&a.flags.knownHosts, "known-hosts", "", "look host keys up in this `FILE`, not in the user's, and in the system's")
	f.StringVar(&a.flags.pinned, "fingerprint", "", "accept the host key with this `FINGERPRINT`, SHA256:…, and no other; of an ftps:// server, the certificate")
	a.insecureFlag(cmd)
	f.DurationVar(&a.flags.waitForHost, "wait-for-host", 0, "try again for so long until the login to a new machine works, as in 90s or 2m")
	f.DurationVar(&a.flags.reconnect, "reconnect", defaultReconnect,
		"try for so long to open a lost connection again; 0: not at all")
	f.StringVar(&a.flags.limitRate, "limit-rate", "", "send and receive no more than this `RATE`, as in 500kB/s or 5MB/s")
	f.StringVar(&a.flags.agent, "agent", "", "what runs next to the files at the far end: auto, off, or the `PATH` of a program there (auto)")
	if cmd.Name() != "fetch" && cmd.Name() != "send" { // where it is another name for a file
		f.StringVar(&a.flags.as, "as", "", "read and write files at the far end as this `USER` of it, through sudo, doas or su")
	}
	f.IntVar(&a.flags.jobs, "jobs", 0, "how many files are in flight at once (16)")
}

// defaultReconnect is how long a lost line is tried to be opened again. A lock runs out after as long.
const defaultReconnect = 2 * time.Minute

// target finds the target that is meant and how to reach it.
func (a *app) target(s *config.Settings, args []string) (targets.Settings, render.Heading, error) {
	name, address, err := chooseTarget(s, args)
	if err != nil {
		return targets.Settings{}, render.Heading{}, err
	}
	out := targets.Settings{Name: name, SSH: targets.SSHSettings{Passphrase: a.askPassphrase},
		Reconnect: a.flags.reconnect, Told: a.connectionLost}
	if a.canAsk() || a.askProgram() != "" {
		out.Ask = a.askAnswer
	}
	retire := s.Retire.After.Value
	if t, named := s.Targets[name]; named {
		address = addressOf(&t)
		a.applyTarget(&out, &t)
		retire = retireOf(&t, retire)
	}
	out.Retire, _ = time.ParseDuration(retire) // it was checked
	if out.Address, err = targets.ParseAddress(address); err != nil {
		if name != "" {
			err = fmt.Errorf("%s: %w", s.Targets[name].URL.At, err)
		}
		return out, render.Heading{}, err
	}
	a.applyTargetFlags(&out)
	out.Archive = a.archiveSettings()
	return out, render.Heading{Site: s.Name.Value, Target: name, Address: out.Address.String(),
		Root: rootOf(out.Address)}, nil
}

// chooseTarget gives the name of a target of the settings, or an address.
func chooseTarget(s *config.Settings, args []string) (name, address string, err error) {
	switch {
	case len(args) == 0 && len(s.TargetNames) == 1:
		return s.TargetNames[0], "", nil
	case len(args) == 0 && len(s.TargetNames) == 0:
		return "", "", usageError("no target is named", "name one: tartine COMMAND ssh://USER@HOST/PATH, or a folder")
	case len(args) == 0:
		return "", "", usageError("the settings have several targets", "name one of them: "+strings.Join(s.TargetNames, ", "))
	case hasTarget(s, args[0]):
		return args[0], "", nil
	case isArchive(args[0]):
		return "", targets.ArchivePrefix + args[0], nil
	case strings.ContainsAny(args[0], `/\:@`) || strings.HasPrefix(args[0], "."):
		return "", args[0], nil
	}
	return "", "", unknownTarget(s, args[0])
}

// addressOf gives the address of a target. A folder is relative to the settings.
func addressOf(t *config.Target) string {
	if name, is := targets.ArchiveAddress(t.URL.Value); is {
		return targets.ArchivePrefix + config.Resolve(config.Text{Value: name, At: t.URL.At})
	}
	if address := t.URL.Value; strings.Contains(address, "://") || targets.IsShort(address) || len(t.Command) > 0 {
		return address
	}
	return config.Resolve(t.URL)
}

// retireOf gives how long what is retired stays at a target, where all usually is as said.
func retireOf(t *config.Target, usual string) string {
	switch {
	case t.Retire.After.Value != "":
		return t.Retire.After.Value
	case usual == "" && t.Web.Value != "":
		return retiredOnTheWeb
	}
	return usual
}

// applyTarget applies what the settings say of a target. What they say was checked.
func (a *app) applyTarget(out *targets.Settings, t *config.Target) {
	out.SSH.HostKey, out.Jobs, out.History, out.SSH.Via, out.Command = t.HostKey.Value, t.Jobs, t.Keep, values(t.Via),
		values(t.Command)
	out.Wait, _ = time.ParseDuration(t.Wait.Value)
	out.RateLimit, _ = config.ParseRate(t.LimitRate.Value)
	out.Switch, out.Agent.Use = t.Publish.Value == "switch", t.Agent.Value
	out.FTP.Certificate, out.FTP.Insecure = t.Certificate.Value, t.Insecure
	out.Container.Engine, out.Owner, out.Container.While = t.Engine.Value, t.Owner.Value, t.While.Value
	if t.Restart.Value != "false" {
		out.Container.Restart = t.Restart.Value
	}
	if t.Agents.Value != "" {
		out.Agent.Builds = config.Resolve(t.Agents)
	}
	switch {
	case t.Identity.Value != "":
		out.SSH.Identity = config.Resolve(t.Identity.Text)
	case t.Identity.Key.IsSet():
		out.SSH.Key = &connect.KeySource{Name: "of target " + out.Name,
			Text: a.secretText(t.Identity.Key, "identity of target "+out.Name)}
	}
	if t.Password.IsSet() {
		out.Password = once(a.secret(t.Password, "password of target "+out.Name))
	}
	out.As.User, out.As.With, out.Like = t.As.Value, t.With.Value, t.KeepAttributes
	if t.AsPassword.IsSet() {
		out.As.Password = a.raisingPassword(out, &t.AsPassword)
	}
	if t.Passphrase.IsSet() {
		find := once(a.secret(t.Passphrase, "passphrase of target "+out.Name))
		out.SSH.Passphrase, out.SSH.Settled = func(string) (string, error) { return find() }, !t.Passphrase.Ask
	}
}

// raisingPassword gives what answers a program that raises rights: what the settings say, or a person, who may err. What was
// right is kept, so that a connection that is opened again asks nobody.
func (a *app) raisingPassword(of *targets.Settings, from *config.Secret) func(try int) (string, error) {
	kept := ""
	what := "password for becoming " + of.As.User
	if of.Name != "" {
		what += " at " + of.Name
	}
	return func(try int) (string, error) {
		switch {
		case try == 1 && kept != "":
			return kept, nil
		case from != nil && !from.Ask:
			if try > 1 {
				return "", errors.New("the settings have no other one (as_password)")
			}
			return a.secret(*from, what)()
		case a.askProgram() != "":
			answer, err := a.askWith(a.askProgram(), what+": ")
			kept = answer
			return answer, err
		case !a.canAsk():
			return "", errors.New("there is no terminal to ask for it; say with as_password where it is found")
		}
		if try > 1 {
			render.Fprintf(a.stderr, "It is not accepted.\n")
		}
		answer, err := a.askSecret(what)
		kept = answer
		return answer, err
	}
}

func values(texts []config.Text) (out []string) {
	for _, t := range texts {
		out = append(out, t.Value)
	}
	return out
}

func rootOf(a targets.Address) string {
	if a.Home {
		return "~/" + a.Path
	}
	return a.Path
}

func (a *app) applyTargetFlags(out *targets.Settings) {
	if a.flags.identity != "" {
		out.SSH.Identity, out.SSH.Key = a.flags.identity, nil
	}
	switch {
	case a.flags.pinned == "":
	case out.Address.Driver().Certificate:
		out.FTP.Certificate = a.flags.pinned
	default:
		out.SSH.HostKey = a.flags.pinned
	}
	out.FTP.Insecure = out.FTP.Insecure || a.flags.insecure
	if a.flags.jobs > 0 {
		out.Jobs = a.flags.jobs
	}
	if a.flags.agent != "" {
		out.Agent.Use = a.flags.agent
	}
	if a.flags.as != "" {
		out.As.User = a.flags.as
	}
	if out.As.User != "" && out.As.Password == nil {
		out.As.Password = a.raisingPassword(out, nil)
	}
	out.SSH.KnownHosts = a.flags.knownHosts
	if rate, _ := config.ParseRate(a.flags.limitRate); rate > 0 {
		out.RateLimit = rate
	}
	if a.flags.waitForHost > 0 {
		out.Wait = a.flags.waitForHost
	}
	switch a.flags.sshConfig {
	case "":
		out.SSH.Config = connect.UserConfig()
	case "none":
	default:
		out.SSH.Config = connect.GivenConfig(a.flags.sshConfig)
	}
	out.Notice = a.note
	out.Between, out.Agent.Version = a.build.Between, a.build.String()
	out.Writes, out.Reads, out.Container.Held = a.writes, a.reads, a.wasHeld
}

func hasTarget(s *config.Settings, name string) bool {
	_, ok := s.Targets[name]
	return ok
}

func unknownTarget(s *config.Settings, name string) error {
	fix := "the settings have no target; name an address such as ssh://USER@HOST/PATH, or a folder as ./" + name
	if near := s.NearestTarget(name); near != "" {
		fix = fmt.Sprintf("did you mean %q?", near)
	} else if len(s.TargetNames) > 0 {
		fix = "the settings have: " + strings.Join(s.TargetNames, ", ")
	}
	return usageError(fmt.Sprintf("there is no target %q", name), fix)
}

// retiredOnTheWeb is how long assets stay where visitors are known to come, unless the settings say otherwise.
const retiredOnTheWeb = "10m"
