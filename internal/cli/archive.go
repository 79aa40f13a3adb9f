package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"time"

	"tartine/internal/archive"
	"tartine/internal/content"
	"tartine/internal/targets"
)

// isArchive tells whether a target is meant by the file of an archive.
func isArchive(name string) bool {
	info, err := os.Stat(name)
	if err != nil || !info.Mode().IsRegular() {
		return false
	}
	_, named := archive.Ending(name)
	return named || isPacked(name)
}

// archiveSettings says how archives are written and looked at.
func (a *app) archiveSettings() targets.ArchiveSettings {
	out := targets.ArchiveSettings{Scratch: scratchFolder(), When: func(ctx context.Context) (time.Time, error) {
		from, err := a.load()
		if err != nil { // what is wrong with it is said where it is needed
			return contentTime(ctx, nil)
		}
		return contentTime(ctx, from.sources)
	}}
	if !a.flags.noCache {
		out.Cache, _ = content.UserCache() // without a home folder there is none
	}
	return out
}

// contentTime gives the time of what is in an archive: what SOURCE_DATE_EPOCH says, else that of the content's commit, else
// the earliest that there is. It does not depend on the machine, nor on when the archive is written.
func contentTime(ctx context.Context, sources []content.Source) (time.Time, error) {
	if text := os.Getenv("SOURCE_DATE_EPOCH"); text != "" {
		seconds, err := strconv.ParseInt(text, 10, 64)
		if err != nil || seconds < 0 || seconds > mostSeconds {
			return time.Time{}, usageError(fmt.Sprintf("SOURCE_DATE_EPOCH is %q, which is not a number of seconds since 1970", text), "")
		}
		return time.Unix(seconds, 0).UTC(), nil
	}
	if len(sources) == 0 {
		return archive.Earliest, ctx.Err()
	}
	if seconds, err := strconv.ParseInt(git(ctx, folderOf(sources), "log", "-1", "--format=%ct"), 10, 64); err == nil {
		return time.Unix(seconds, 0).UTC(), nil
	}
	return archive.Earliest, ctx.Err()
}

// mostSeconds is the last time that all archives can say: the end of 2099.
const mostSeconds = 4102444799
