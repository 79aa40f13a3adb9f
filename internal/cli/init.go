package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tartine/internal/archive"
	"tartine/internal/config"
	"tartine/internal/connect"
	"tartine/internal/content"
	"tartine/internal/render"
	"tartine/internal/targets"
)

func (a *app) initCommand() *cobra.Command {
	var schema bool
	cmd := &cobra.Command{
		Use:   "init",
		Short: "Write a starter tartine.yaml fitted to this folder",
		Long: `Init writes a tartine.yaml with what this folder most likely needs, and comments on the rest. On a terminal it asks where the content
is, where it goes and with which key, writes the host key down once it is known to be right, and has doctor try the way there.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if schema { // it is JSON already
				_, err := a.stdout.Write(config.Schema())
				return err
			}
			return a.writeStarter(cmd.Context())
		},
	}
	a.configFlag(cmd)
	a.outputFlags(cmd)
	cmd.Flags().BoolVar(&schema, "schema", false, "write the JSON Schema of tartine.yaml to standard output instead")
	return cmd
}

// answers are what a person says of a new site.
type answers struct {
	source  string
	unpack  bool   // it is an archive
	inside  string // the folder of it that is the content; empty: all of it
	address string // empty: it is written later
	key     string // empty: the usual ones
	pin     string // of the host key
}

func (a *app) writeStarter(ctx context.Context) error {
	name := a.flags.config
	if name == "" {
		name = config.FileName
	}
	if _, err := os.Lstat(name); err == nil {
		return usageError(fmt.Sprintf("%s is there already", name), "edit it, or move it away first")
	}
	source, found := likelySource(filepath.Dir(name))
	said := answers{source: source}
	if !found {
		said.source, said.inside, said.unpack = likelyArchive(ctx, filepath.Dir(name))
		if found = said.unpack; !found {
			said.source = source
		}
	}
	if a.canAsk() && !a.json() {
		if err := a.interview(ctx, &said); err != nil {
			return err
		}
		found = true
	}
	if err := writeNew(name, starter(name, &said)); err != nil {
		return err
	}
	if a.json() {
		return a.object(map[string]any{"written": name, "source": said.source, "source_found": found,
			"unpack": said.unpack, "target": firstTarget})
	}
	p := a.printer()
	if said.unpack {
		p.Line("written   %s: the content is what is in the archive %s", name, said.source)
	} else if found {
		p.Line("written   %s: the content is the folder %s", name, said.source)
	} else {
		p.Line("written   %s: no build output was found here, so name the folder under content", name)
	}
	if said.address == "" {
		p.Line("next      put the address of your server under targets, then: tartine diff")
		return nil
	}
	p.Line("")
	if err := a.doctor(ctx, []string{firstTarget}); err != nil {
		return err
	}
	if a.status == ExitDone {
		p.Line("next      tartine diff %s", firstTarget)
	}
	return nil
}

// firstTarget is the name of the target in a new file.
const firstTarget = "staging"

func writeNew(name, text string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return usageError(fmt.Sprintf("%s is there already", name), "edit it, or move it away first")
	}
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, errors.Unwrap(err)), "")
	}
	_, err = file.WriteString(text)
	if err = errors.Join(err, file.Close()); err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, err), "")
	}
	return nil
}

// interview asks where the content is, where it goes, and with which key, and finds out the host key.
func (a *app) interview(ctx context.Context, said *answers) error {
	if text := a.answer("Which folder, or archive, holds the content?", said.source); text != "" && text != said.source {
		said.source, said.inside = text, ""
		said.unpack = isPacked(text)
	}
	for said.address == "" {
		text := a.answer("Where does it go? Such as ssh://warden@server.example/srv/www/gannet, or a folder", "later")
		if text == "" || text == "later" {
			return nil
		}
		address, err := targets.ParseAddress(text)
		if err != nil {
			render.Fprintf(a.stderr, "%v\n", err)
			continue
		}
		said.address = text
		if address.Driver().NoHostKey != "" {
			return nil
		}
	}
	for {
		said.key = a.answer("Which private key file logs in there?", "the usual ones")
		if said.key == "the usual ones" {
			said.key = ""
		}
		if _, err := os.Stat(config.Resolve(config.Text{Value: said.key})); said.key == "" || err == nil {
			break
		}
		render.Fprintf(a.stderr, "%s is not there\n", said.key)
	}
	return a.findPin(ctx, said)
}

// findPin asks whether the key that the host shows is right. Where the host does not answer there is none, and doctor
// says why.
func (a *app) findPin(ctx context.Context, said *answers) error {
	reach, _, err := a.target(&config.Settings{}, []string{said.address})
	if err != nil {
		return err
	}
	dial, err := reach.Dialer(ctx)
	if err != nil {
		return err
	}
	fingerprint, err := dial.ShowKey(ctx)
	var unknown *connect.HostKeyError
	switch {
	case errors.Is(err, connect.ErrTrusted):
		said.pin = fingerprint
	case errors.As(err, &unknown) && unknown.Unknown():
		a.showKey(dial.Address(), unknown)
		if !a.ask([]string{"this key will be trusted from now on; compare it with what the server's owner says"}) {
			return &statusError{status: ExitRefused, what: "nothing was written",
				next: "ask the server's owner for the fingerprint of its key"}
		}
		said.pin = fingerprint
	case errors.As(err, &unknown):
		return err
	}
	return ctx.Err()
}

// answer asks a question on the terminal. Whoever answers nothing takes what is usual.
func (a *app) answer(question, usual string) string {
	render.Fprintf(a.stderr, "%s [%s] ", question, usual)
	line, _ := bufio.NewReader(a.stdin).ReadString('\n')
	if line = strings.TrimSpace(line); line == "" {
		return usual
	}
	return line
}

// likelyFolders is where builds commonly put a site, the more telling names first.
var likelyFolders = []string{"dist", "build", "out", "public", "_site", "site", "htdocs", "www", "html"}

// likelySource finds the folder that most likely holds the site: one with a start page, else one with a telling name.
func likelySource(dir string) (name string, found bool) {
	for _, start := range []string{"index.html", ""} {
		for _, folder := range likelyFolders {
			info, err := os.Stat(filepath.Join(dir, folder, start))
			if err == nil && info.IsDir() == (start == "") {
				return folder, true
			}
		}
		if _, err := os.Stat(filepath.Join(dir, "index.html")); err == nil {
			return ".", true
		}
	}
	return "public", false
}

// likelyArchive finds the archive that a folder holds and nothing else, but for hidden files, and the folder in it that is
// the content: the one with a start page, where everything is in one.
func likelyArchive(ctx context.Context, dir string) (name, inside string, found bool) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return "", "", false
	}
	for _, entry := range list {
		if strings.HasPrefix(entry.Name(), ".") {
			continue
		}
		if name != "" || !isPacked(filepath.Join(dir, entry.Name())) {
			return "", "", false
		}
		name = entry.Name()
	}
	if name == "" {
		return "", "", false
	}
	p := &content.Packed{Name: filepath.Join(dir, name), Inside: ".", Dir: scratchFolder()}
	listing, _, err := p.List(ctx)
	if err != nil {
		return name, "", true // what is wrong with it is said when it is deployed
	}
	defer p.Close()
	for i := range listing.Entries {
		path := listing.Entries[i].Path
		if path == "index.html" {
			return name, "", true
		}
		if above, start := strings.CutSuffix(path, "/index.html"); start && (inside == "" || len(above) < len(inside)) {
			inside = above
		}
	}
	return name, inside, true
}

// isPacked tells whether a file is an archive, by its first bytes.
func isPacked(name string) bool {
	file, err := os.Open(name)
	if err != nil {
		return false
	}
	defer file.Close()
	head := make([]byte, 512)
	n, _ := io.ReadFull(file, head) // a short file is none, or one that tells so
	_, err = archive.Detect(head[:n])
	return err == nil && n > 0
}

func starter(file string, said *answers) string {
	absolute, err := filepath.Abs(file)
	if err != nil {
		absolute = file
	}
	siteName := strings.ToLower(filepath.Base(filepath.Dir(absolute)))
	exclude := `"*.map", ".DS_Store"`
	source := said.source
	if source == "." {
		exclude += `, "tartine.yaml", ".git/"`
	}
	return fmt.Sprintf(`# Settings of Tartine. "tartine diff" shows what a deployment would do; it changes nothing.

name: %q

# Where the content comes from. The content of a source goes into dest at the site; without dest, at the top.
content:
  - source: %s%s
#  - source: plates            # a second folder
#    dest: img/plates          # goes here at the site
#    include: ["*.webp", "*.svg"]
#    exclude: ["proof-*"]
#  - source: docs/guide.pdf    # a single file
#    dest: downloads
#    name: visitor-guide.pdf
#  - source: plates.tar.zst    # what is in an archive
#    unpack: true
#    inside: build/plates      # this folder of it

# What is left out of every source. A pattern without a slash matches a name at any depth; a slash at its end means a
# folder with all below it. "tartine explain PATH" says which rule decides about a path.
exclude: [%s]

# What may be deployed although it looks like a secret:
# guard: {allow: ["examples/.env.sample"]}

# Links are kept as links (or: follow, skip). Modes are 0644, and 0755 for executables (or: keep).
# links: keep
# modes: default

# The places to deploy to. "tartine deploy staging" names one of them.
targets:
  staging:
%s#  preview:
#    url: ../preview           # a folder of this machine
#  other:
#    url: sftp://warden@server.example:2222/htdocs
#    password: {env: SITE_PASSWORD}
`, siteName, yamlText(source), unpacking(said), exclude, firstSettings(siteName, said))
}

// unpacking is what the settings say of an archive.
func unpacking(said *answers) string {
	out := ""
	if said.unpack {
		out = "\n    unpack: true"
	}
	if said.inside != "" {
		out += "\n    inside: " + yamlText(said.inside)
	}
	return out
}

// firstSettings are those of the first target.
func firstSettings(siteName string, said *answers) string {
	url, identity, pin := "ssh://warden@server.example/srv/www/"+siteName, "#    identity: ~/.ssh/id_ed25519\n",
		"#    host_key: SHA256:...      # pins the server's key\n"
	if said.address != "" {
		url, identity = said.address, ""
	}
	if said.key != "" {
		identity = "    identity: " + yamlText(said.key) + "\n"
	}
	if said.pin != "" {
		pin = "    host_key: " + said.pin + "      # pins the server's key\n"
	} else if said.address != "" {
		pin = ""
	}
	return "    url: " + yamlText(url) + "    # a path after the host is absolute; /~/x is below the home folder\n" + identity + pin
}

var plainYAML = regexp.MustCompile(`^[A-Za-z0-9_./~][A-Za-z0-9_./~@%+=:-]*[A-Za-z0-9_./~]$`)

// yamlText writes a text as a value.
func yamlText(text string) string {
	if plainYAML.MatchString(text) && text != "~" {
		return text
	}
	return strconv.Quote(strings.ReplaceAll(text, "${", "$${"))
}
