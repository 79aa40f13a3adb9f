package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tartine/internal/config"
)

func (a *app) initCommand() *cobra.Command {
	var schema bool
	cmd := &cobra.Command{
		Use:   "init",
		Short: "Write a starter tartine.yaml fitted to this folder",
		Args:  noArguments,
		RunE: func(*cobra.Command, []string) error {
			if schema {
				_, err := a.stdout.Write(config.Schema())
				return err
			}
			return a.writeStarter()
		},
	}
	a.configFlag(cmd)
	cmd.Flags().BoolVar(&schema, "schema", false, "write the JSON Schema of tartine.yaml to standard output instead")
	return cmd
}

func (a *app) writeStarter() error {
	name := a.flags.config
	if name == "" {
		name = config.FileName
	}
	source, found := likelySource(filepath.Dir(name))
	text := starter(name, source)
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return usageError(fmt.Sprintf("%s is there already", name), "edit it, or move it away first")
	}
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, errors.Unwrap(err)), "")
	}
	_, err = file.WriteString(text)
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return usageError(fmt.Sprintf("%s cannot be written: %v", name, err), "")
	}
	p := a.printer()
	if found {
		p.Line("written   %s: the content is the folder %s", name, source)
	} else {
		p.Line("written   %s: no build output was found here, so name the folder under content", name)
	}
	p.Line("next      put the address of your server under targets, then: tartine diff")
	return nil
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

func starter(file, source string) string {
	absolute, err := filepath.Abs(file)
	if err != nil {
		absolute = file
	}
	siteName := strings.ToLower(filepath.Base(filepath.Dir(absolute)))
	exclude := `"*.map", ".DS_Store"`
	if source == "." {
		exclude += `, "tartine.yaml", ".git/"`
	}
	return fmt.Sprintf(`# Settings of Tartine. "tartine diff" shows what a deployment would do; it changes nothing.

name: %q

# Where the content comes from. What stands in a source's folder stands in dest at the site; without dest, at the top.
content:
  - source: %s
#  - source: plates            # a second folder
#    dest: img/plates          # stands here at the site
#    include: ["*.webp", "*.svg"]
#    exclude: ["proof-*"]
#  - source: docs/guide.pdf    # a single file
#    dest: downloads
#    name: visitor-guide.pdf

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
    url: ssh://warden@server.example/srv/www/%s    # a path after the host is absolute; /~/x is below the home folder
#    identity: ~/.ssh/id_ed25519
#    host_key: SHA256:...      # pins the server's key
#  preview:
#    url: ../preview           # a folder of this machine
#  other:
#    url: sftp://warden@server.example:2222/htdocs
#    password: {env: SITE_PASSWORD}
`, siteName, source, exclude, siteName)
}
