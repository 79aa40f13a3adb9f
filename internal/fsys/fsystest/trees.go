package fsystest

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Tree is a content or a site in short: a text that begins with -> is a link, a name that ends in / an empty folder.
type Tree = map[string]string

// SwappingTree makes a tree whose paths meet those of others often, with other kinds: files, links, folders and what
// lies in them, and names that begin as others do. No link leads out of it.
func SwappingTree(random *rand.Rand) Tree {
	elements := []string{"a", "a-", "b", "a.html", "x y"}
	out := Tree{}
	for range random.IntN(9) {
		var parts []string
		for range 1 + random.IntN(3) {
			parts = append(parts, elements[random.IntN(len(elements))])
		}
		path := strings.Join(parts, "/")
		if Below(out, path) || above(out, path) {
			continue
		}
		switch random.IntN(6) {
		case 0, 1:
			// To where something may be, or a folder, or nothing.
			up := strings.Repeat("../", strings.Count(path, "/"))
			out[path] = "->" + up + elements[random.IntN(3)]
		case 2:
			out[path+"/"] = ""
		default:
			out[path] = fmt.Sprint("content ", random.IntN(4))
		}
	}
	return out
}

// Below tells whether a path lies below a file, link or empty folder of the tree.
func Below(c Tree, path string) bool {
	for at := strings.LastIndexByte(path, '/'); at > 0; at = strings.LastIndexByte(path[:at], '/') {
		_, leaf := c[path[:at]]
		_, folder := c[path[:at]+"/"]
		if leaf || folder {
			return true
		}
	}
	return false
}

// above tells whether something of the tree exists at a path or below it.
func above(c Tree, path string) bool {
	for other := range c {
		if other == path || strings.HasPrefix(other, path+"/") {
			return true
		}
	}
	return false
}
