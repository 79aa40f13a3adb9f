package manifest

import (
	"path"
	"strings"
)

// maxLinks is how many links in a row are followed before they count as a circle, as in Linux's path resolution.
const maxLinks = 40

// LeadsOut follows a link of a tree, step by step, and tells whether it leads out of the tree. It is followed through
// the other links, since "a/.." is not the folder above a when a is itself a link. What is at a path, if it is a link,
// and what it says is told by says. One that leads nowhere inside the tree, or in a circle, does not lead out.
func LeadsOut(link string, says func(path string) (target string, isLink bool)) bool {
	at := "."
	todo := strings.Split(link, "/")
	for followed := 0; len(todo) > 0; {
		element := todo[0]
		todo = todo[1:]
		switch element {
		case "", ".":
			continue
		case "..":
			if at == "." {
				return true
			}
			at = path.Dir(at)
			continue
		}
		at = path.Join(at, element)
		if target, isLink := says(at); isLink {
			if followed++; followed > maxLinks {
				return false
			}
			if strings.HasPrefix(target, "/") || isDriveLetter(target) {
				return true
			}
			at = path.Dir(at)
			todo = append(strings.Split(target, "/"), todo...)
		}
	}
	return false
}

func isDriveLetter(target string) bool { return len(target) > 1 && target[1] == ':' }

// LinksOf gives what links say, by their paths, for LeadsOut.
func LinksOf(links map[string]string) func(path string) (target string, isLink bool) {
	return func(path string) (string, bool) {
		target, isLink := links[path]
		return target, isLink
	}
}
