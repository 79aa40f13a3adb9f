package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Manual gives the manual pages of all commands as man(7) reads them, under the names of their files.
func Manual(build Build) map[string]string {
	root := (&app{build: build}).root()
	out := map[string]string{"tartine.1": manualPage(root, build.Version)}
	for _, cmd := range root.Commands() {
		if !cmd.Hidden && cmd.Name() != "help" {
			out["tartine-"+cmd.Name()+".1"] = manualPage(cmd, build.Version)
		}
	}
	return out
}

func manualPage(cmd *cobra.Command, version string) string {
	var out strings.Builder
	name := strings.ReplaceAll(cmd.CommandPath(), " ", "-")
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line(`.TH %s 1 "" "tartine %s" "Tartine"`, strings.ToUpper(name), roff(version))
	line(".SH NAME\n%s \\- %s", roff(name), roff(cmd.Short))
	if cmd.HasParent() {
		line(".SH SYNOPSIS\n.B %s\n[\\fIOPTIONS\\fR]%s", roff(cmd.CommandPath()),
			roff(strings.TrimPrefix(cmd.UseLine(), cmd.CommandPath())))
	} else {
		line(".SH SYNOPSIS\n.B tartine\n\\fICOMMAND\\fR [\\fIOPTIONS\\fR]")
	}
	text := cmd.Long
	if text == "" {
		text = cmd.Short + "."
	}
	line(".SH DESCRIPTION\n%s", strings.ReplaceAll(roff(text), "\n\n", "\n.PP\n"))
	for _, group := range groups {
		written := false
		for _, child := range inTableOrder(cmd.Commands()) {
			if child.GroupID != group.ID || child.Hidden || child.Name() == "help" {
				continue
			}
			if !written {
				line(".SH %s", roff(strings.ToUpper(strings.TrimSuffix(group.Title, ":"))))
				written = true
			}
			line(".TP\n.BR tartine\\-%s (1)\n%s", roff(child.Name()), roff(child.Short))
		}
	}
	if cmd.HasParent() && !cmd.HasAvailableSubCommands() {
		line(".SH OPTIONS")
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if !f.Hidden && f.Name != "help" {
				left, text := optionForm(f)
				line(".TP\n.B %s\n%s", roff(strings.TrimSpace(left)), roff(text))
			}
		})
	}
	if cmd.Example != "" {
		line(".SH EXAMPLES\n.nf\n%s\n.fi", roff(cmd.Example))
	}
	line(".SH EXIT STATUS")
	for _, status := range exitStatuses {
		line(".TP\n.B %s\n%s", status[0], roff(status[1]))
	}
	line(`.SH FILES
.TP
.I tartine.yaml
the settings, in this folder or above it in the same repository or home folder
.TP
.I ~/.ssh/config
OpenSSH's client settings, which are honoured
.SH SEE ALSO
.BR tartine (1),
.BR ssh_config (5),
.BR sha256sum (1)`)
	return out.String()
}

// roff has a text read as it is.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`, "…", "...").Replace(text)
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}
