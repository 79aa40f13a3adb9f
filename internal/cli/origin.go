package cli

import (
	"cmp"
	"context"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"tartine/internal/content"
	"tartine/internal/manifest"
)

// gitPatience is how long git may take to answer.
const gitPatience = 2 * time.Second

// userName says who runs this program; it may be empty.
func userName() string {
	me, err := user.Current()
	if err != nil {
		return ""
	}
	return me.Username
}

// origin says who deploys, and from which commit and branch when the first source is in a git work tree.
func origin(ctx context.Context, sources []content.Source) *manifest.Origin {
	o := &manifest.Origin{User: userName()}
	o.Host, _ = os.Hostname() // it may stay empty
	if len(sources) == 0 {
		return o
	}
	dir := folderOf(sources)
	ctx, cancel := context.WithTimeout(ctx, gitPatience)
	defer cancel()
	o.Commit = git(ctx, dir, "rev-parse", "HEAD")
	o.Branch = git(ctx, dir, "symbolic-ref", "--quiet", "--short", "HEAD")
	return o
}

// folderOf gives the folder in which the first source is, or the current one where it is nowhere.
func folderOf(sources []content.Source) string {
	dir := cmp.Or(sources[0].OnDisk(), ".")
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		dir = filepath.Dir(dir)
	}
	return dir
}

// git gives what git prints, or nothing where there is no git, no work tree, or no answer.
func git(ctx context.Context, dir string, args ...string) string {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_OPTIONAL_LOCKS=0")
	out, err := cmd.Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}
