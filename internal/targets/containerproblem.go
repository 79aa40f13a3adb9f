package targets

import (
	"fmt"
	"strings"

	"tartine/internal/connect/engine"
)

// problemsOfContainers are those of containers and their engine.
var problemsOfContainers = []rule{
	forError(func(none *engine.Error) *Problem {
		p := &Problem{What: none.Error(), Next: "start the engine, or say where it is with engine: or DOCKER_HOST"}
		switch {
		case none.Group != "":
			p.Next = fmt.Sprintf("have an administrator add you to the group %s, which owns the socket; log in anew, and run it again", none.Group)
		case none.Denied:
			p.Next = "have its owner let you use the socket, and run it again"
		case none.Old:
			p.Next = "bring the engine up to date"
		}
		return p
	}),
	forError(func(unknown *engine.NotFoundError) *Problem {
		p := &Problem{What: unknown.Error(), Next: "start one with this name, or name another"}
		switch {
		case len(unknown.Several) > 0:
			p.Paths, p.Next = unknown.Several, "write more of the id, or the name"
		case len(unknown.Nearest) > 0:
			p.Next = "did you mean " + strings.Join(unknown.Nearest, " or ") + "?"
		case len(unknown.Known) > 0:
			p.Next = "it has: " + strings.Join(unknown.Known, ", ")
		}
		return p
	}),
	forError(func(unfit *UnfitError) *Problem {
		return &Problem{What: unfit.Error(), Next: "give it more, or write agent: off for this target: then files are carried there in archives"}
	}),
	forError(func(failed *ContainerError) *Problem {
		p := &Problem{What: failed.Error()}
		switch {
		case failed.Paused:
			p.Next = "unpause it and run this again"
		case failed.Stopped:
			p.Next = "start it and run this again"
		case failed.Carrying:
			p.Trouble, p.Next = Unfinished, "fix that and run it again: it finishes what has begun, and nothing that is to stay is lost"
		case failed.Runs:
			p.Next = "stop it and run this again; a deployment stops it for as long as it takes where the target says while: stopped"
		default:
			p.Next = "a program must be able to run in it: mount a volume, or a memory disk on which programs run (tmpfs with exec), at /tmp; for another processor name builds with agents:"
		}
		return p
	}),
}
