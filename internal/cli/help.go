package cli

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tartine/internal/config"
	"tartine/internal/render"
)

// helpWidth is how wide help is at most, in columns.
const helpWidth = 100

// groups are the parts of the list of commands, in their order.
var groups = []*cobra.Group{{ID: "deploy", Title: "Deploy:"}, {ID: "content", Title: "Content:"},
	{ID: "reach", Title: "Reach:"}, {ID: "site", Title: "At the site:"}, {ID: "more", Title: "More:"}}

// about is what help says of a command beside its description.
type about struct {
	group    string
	examples []string
}

var abouts = map[string]about{
	"init": {"deploy", []string{"tartine init", "tartine init --schema >tartine.schema.json"}},
	"diff": {"deploy", []string{"tartine diff staging", "tartine diff staging --exit-code --format json",
		"tartine diff staging --content log/june.html", "tartine diff staging --from 3 --to 5"}},
	"deploy": {"deploy", []string{"tartine deploy staging", "tartine deploy live --dry-run",
		"tartine deploy --source public ssh://warden@server.example/srv/www/gannet",
		"tartine deploy live --yes --quiet --wait 5m", "tartine deploy live --compare hash"}},
	"verify": {"deploy", []string{"tartine verify live", "tartine verify live --strays ignore --format json",
		"tartine verify live --web", "tartine verify live --manifest gannet.json", "tartine verify gannet.tar.zst"}},
	"history":  {"deploy", []string{"tartine history live", "tartine history live 4"}},
	"rollback": {"deploy", []string{"tartine rollback live", "tartine rollback live 4 --dry-run"}},
	"promote":  {"deploy", []string{"tartine promote staging live --dry-run", "tartine promote staging live", "tartine promote staging live --drifted recorded"}},
	"watch":    {"deploy", []string{"tartine watch staging", "tartine watch staging --poll 2s --format json"}},
	"manifest": {"content", []string{"tartine manifest --output gannet.json",
		"tartine manifest --format listing | (cd public && sha256sum --check)"}},
	"explain": {"content", []string{"tartine explain plates/proof-gannet.webp"}},
	"pack": {"content", []string{"tartine pack --output gannet.tar.zst", "tartine pack --output - | tar -t", "tartine pack --output gannet.zip --format json",
		"tartine pack --output gannet.oci.tar --image gannet-rock:1.4 --base base.oci.tar --at /srv/www --port 8080"}},
	"targets": {"reach", []string{"tartine targets", "tartine targets --check"}},
	"doctor":  {"reach", []string{"tartine doctor live"}},
	"trust":   {"reach", []string{"tartine trust live", "tartine trust live --fingerprint SHA256:mF3…"}},
	"unlock":  {"reach", []string{"tartine unlock live", "tartine unlock live --give-up"}},
	"fetch":   {"site", []string{"tartine fetch live --into copy", "tartine fetch live log/june.html --into ."}},
	"ls":      {"site", []string{"tartine ls live", "tartine ls live img --recursive --sort size"}},
	"find":    {"site", []string{"tartine find live --name '*.pdf' --larger 1MB", "tartine find live --status drifted --print0"}},
	"cat":     {"site", []string{"tartine cat live index.html", "tartine cat live log/access.log --last 20 --follow"}},
	"usage":   {"site", []string{"tartine usage live", "tartine usage live img"}},
	"edit":    {"site", []string{"tartine edit live index.html", "EDITOR='code --wait' tartine edit live cgi/tide.sh"}},
	"mkdir":   {"site", []string{"tartine mkdir live tides/2027"}},
	"mv":      {"site", []string{"tartine mv live tides/draft.pdf tides/2027.pdf", "tartine mv live 'log/*.html' archive"}},
	"rm":      {"site", []string{"tartine rm live stray.txt", "tartine rm live archive --recursive"}},
	"chmod":   {"site", []string{"tartine chmod live 0755 cgi/tide.sh"}},
	"send":    {"site", []string{"tartine send live tides/2027.pdf --to tides", "pg_dump stats | tartine send live - --as stats.txt"}},
	"adopt":   {"site", []string{"tartine adopt live --dry-run", "tartine adopt live log/june.html", "tartine adopt live --yes"}},
	"run":     {"site", []string{"tartine run live -- ls -l", "tartine run live -- sh -c 'df -h . | tail -1'", "tartine run kiosk -- nginx -t"}},
	"wipe":    {"site", []string{"tartine wipe staging", "tartine wipe staging --keep-strays", "tartine wipe staging --yes-remove staging"}},
	"demo":    {"more", []string{"tartine demo", "tartine demo --target container --keep"}},
	"version": {"more", []string{"tartine version --format json"}},
	"completion": {"more", []string{"source <(tartine completion bash)",
		"tartine completion fish > ~/.config/fish/completions/tartine.fish"}},
	"help": {"more", []string{"tartine help deploy"}},
}

// choices are the values that options take.
var choices = map[string][]string{
	"format":  {"text", "json", "jsonl"},
	"compare": {"hash\tread every file at the site", "time\tgo by size and time alone", "none\tsend everything"},
	"strays":  {"report", "ignore"},
	"drifted": {"recorded\twhat was deployed", "standing\twhat is there now"},
	"agent":   {"auto", "off"},
}

// dress gives commands their group, examples, short letters, completion, and what help is like.
func (a *app) dress(root *cobra.Command) {
	root.AddGroup(groups...)
	root.SetHelpCommandGroupID("more")
	root.SetCompletionCommandGroupID("more")
	root.InitDefaultHelpFlag()
	root.Flags().Bool("version", false, "say which program this is")
	root.SetUsageFunc(func(cmd *cobra.Command) error {
		_, err := fmt.Fprint(cmd.OutOrStderr(), usage(cmd))
		return err
	})
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		text := cmd.Long
		if text == "" {
			text = cmd.Short + "."
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s\n\n%s", paragraphs(text), usage(cmd))
	})
	root.SetHelpCommand(&cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Show the help of a command",
		RunE: func(_ *cobra.Command, args []string) error {
			cmd, rest, err := root.Find(args)
			if err != nil || len(rest) > 0 {
				return unknownCommand(root, strings.Join(args, " "))
			}
			return cmd.Help()
		},
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return commandNames(root), cobra.ShellCompDirectiveNoFileComp
		},
	})
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, cmd := range root.Commands() {
		a.dressOne(cmd)
		if cmd.Name() == "completion" {
			cmd.Short = "Write the completion script for a shell"
			cmd.Long = "Completion writes the script that has a shell complete commands, options, targets and the numbers of their deployments."
			for _, shell := range cmd.Commands() {
				a.completionScript(root, shell)
			}
		}
	}
}

func (a *app) dressOne(cmd *cobra.Command) {
	about := abouts[cmd.Name()]
	cmd.GroupID = about.group
	cmd.Example = strings.Join(about.examples, "\n")
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if values, ok := choices[f.Name]; ok {
			_ = cmd.RegisterFlagCompletionFunc(f.Name, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp)) // it fails for an option that has one
		}
	})
	cmd.DisableFlagsInUseLine = true
	if strings.Contains(cmd.Use, "[TARGET]") {
		cmd.ValidArgsFunction = a.completeTarget
	}
}

// usage is how a command is used: its form, examples, commands and options.
func usage(cmd *cobra.Command) string {
	var out strings.Builder
	part := func(title string) { fmt.Fprintf(&out, "%s\n", title) }
	part("Usage:")
	if cmd.HasAvailableSubCommands() {
		fmt.Fprintf(&out, "  %s COMMAND\n\n", cmd.CommandPath())
	} else {
		fmt.Fprintf(&out, "  %s [OPTIONS]\n\n", cmd.UseLine())
	}
	if cmd.Example != "" {
		part("Examples:")
		for example := range strings.SplitSeq(cmd.Example, "\n") {
			fmt.Fprintf(&out, "  %s\n", example)
		}
		out.WriteString("\n")
	}
	for _, group := range groups {
		commands := slices.DeleteFunc(slices.Clone(cmd.Commands()),
			func(c *cobra.Command) bool { return c.GroupID != group.ID || c.Hidden })
		if len(commands) == 0 {
			continue
		}
		part(group.Title)
		for _, c := range inTableOrder(commands) {
			fmt.Fprintf(&out, "  %-12s%s\n", c.Name(), render.Wrap(c.Short, 14, helpWidth))
		}
		out.WriteString("\n")
	}
	if !cmd.HasParent() {
		part("Exit status:")
		for _, status := range exitStatuses {
			fmt.Fprintf(&out, "  %-5s%s\n", status[0], status[1])
		}
		out.WriteString("\nHelp on a command: tartine help COMMAND\n")
		return out.String()
	}
	if cmd.HasAvailableSubCommands() {
		part("Commands:")
		for _, c := range cmd.Commands() {
			if !c.Hidden {
				fmt.Fprintf(&out, "  %-12s%s\n", c.Name(), c.Short)
			}
		}
		return out.String()
	}
	part("Options:")
	out.WriteString(options(cmd.Flags()))
	return out.String()
}

// inTableOrder sorts commands as the table has them, which is the order in which they are used.
func inTableOrder(commands []*cobra.Command) []*cobra.Command {
	order := []string{"init", "diff", "deploy", "watch", "verify", "history", "rollback", "promote", "manifest", "explain", "pack", "targets",
		"doctor", "trust", "unlock", "ls", "find", "cat", "usage", "edit", "send", "fetch", "mkdir", "mv", "rm", "chmod", "adopt", "run", "wipe", "demo",
		"version", "completion", "help"}
	slices.SortStableFunc(commands, func(a, b *cobra.Command) int {
		return slices.Index(order, a.Name()) - slices.Index(order, b.Name())
	})
	return commands
}

var typeNames = map[string]string{"string": "TEXT", "int": "NUMBER", "duration": "TIME", "stringArray": "TEXT",
	"bool": "", "count": ""}

// options lists options with their short letters, what they take, and what they do.
func options(flags *pflag.FlagSet) string {
	type row struct{ left, right string }
	var rows []row
	width := 0
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		left, text := optionForm(f)
		rows = append(rows, row{left, text})
		width = max(width, len([]rune(left)))
	})
	var out strings.Builder
	for _, r := range rows {
		fmt.Fprintf(&out, "%s%s  %s\n", r.left, strings.Repeat(" ", width-len([]rune(r.left))),
			render.Wrap(r.right, width+2, helpWidth))
	}
	return out.String()
}

// optionForm gives how an option is written, and what it does.
func optionForm(f *pflag.Flag) (left, text string) {
	name, text := pflag.UnquoteUsage(f)
	if given, ok := typeNames[name]; ok {
		name = given
	}
	left = "      --" + f.Name
	if f.Shorthand != "" {
		left = "  -" + f.Shorthand + ", --" + f.Name
	}
	if name != "" {
		left += " " + name
	}
	if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "0s" && f.DefValue != "[]" {
		text += fmt.Sprintf(" (%s)", strings.TrimSuffix(f.DefValue, "0s"))
	}
	return left, text
}

// exitStatuses are the statuses and what they mean.
var exitStatuses = [][2]string{{"0", "done, or nothing to do"},
	{"1", "verify found differences; with --exit-code, diff did"}, {"2", "wrong usage or settings"},
	{"3", "could not connect or log in"}, {"4", "some files failed, the rest arrived"}, {"5", "refused for safety"}, {"6", "found unwell, and rolled back"},
	{"130", "interrupted"}}

// paragraphs breaks the lines of each paragraph anew.
func paragraphs(text string) string {
	var out []string
	for paragraph := range strings.SplitSeq(text, "\n\n") {
		out = append(out, render.Wrap(strings.Join(strings.Fields(paragraph), " "), 0, helpWidth))
	}
	return strings.Join(out, "\n\n")
}

func commandNames(root *cobra.Command) (out []string) {
	for _, c := range root.Commands() {
		if !c.Hidden {
			out = append(out, c.Name())
		}
	}
	return out
}

// unknownCommand names the command that is most like one that there is not.
func unknownCommand(root *cobra.Command, name string) error {
	next := "tartine --help lists the commands"
	if near := config.Nearest(name, commandNames(root)); near != "" {
		next = fmt.Sprintf("did you mean %q? %s", near, next)
	}
	return usageError(fmt.Sprintf("there is no command %q", name), next)
}

var (
	unknownLong  = regexp.MustCompile(`^unknown flag: --(.*)$`)
	unknownShort = regexp.MustCompile(`^unknown shorthand flag: '(.)' in (.*)$`)
	missingValue = regexp.MustCompile(`^flag needs an argument: (?:'.' in )?(--?\S+)$`)
	wrongValue   = regexp.MustCompile(`^invalid argument "(.*)" for "(?:-., )?(--\S+)" flag: .*$`)
)

// wrongOption says what is wrong with an option in the words of all other messages.
func wrongOption(cmd *cobra.Command, err error) error {
	next := cmd.CommandPath() + " --help lists the options"
	said := err.Error()
	if found := unknownLong.FindStringSubmatch(said); found != nil {
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		if near := config.Nearest(found[1], names); near != "" {
			next = fmt.Sprintf("did you mean --%s? %s", near, next)
		}
		return usageError(fmt.Sprintf("%s has no option --%s", cmd.CommandPath(), found[1]), next)
	}
	if found := unknownShort.FindStringSubmatch(said); found != nil {
		return usageError(fmt.Sprintf("%s has no option -%s", cmd.CommandPath(), found[1]), next)
	}
	if found := missingValue.FindStringSubmatch(said); found != nil {
		return usageError(fmt.Sprintf("the option %s needs a value", found[1]), next)
	}
	if found := wrongValue.FindStringSubmatch(said); found != nil {
		kind := "a value"
		if f := cmd.Flags().Lookup(strings.TrimPrefix(found[2], "--")); f != nil {
			kind = map[string]string{"int": "a number", "duration": "a length of time, such as 90s or 2m",
				"bool": "true or false"}[f.Value.Type()]
		}
		return usageError(fmt.Sprintf("%s is %q, which is not %s", found[2], found[1], kind), next)
	}
	return usageError(said, next)
}
