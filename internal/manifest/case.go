package manifest

import "strings"

// CaseClash is two paths that are one where the far side ignores case.
type CaseClash struct{ First, Second string }

// CaseClashes finds paths, of files or of the folders above them, that differ only in case.
func CaseClashes(entries []Entry) []CaseClash {
	var (
		out  []CaseClash
		seen = map[string]string{} // by lower case
		last string
	)
	for i := range entries {
		full := entries[i].Path
		for end := 1; end <= len(full); end++ {
			if end < len(full) && full[end] != '/' {
				continue
			}
			prefix := full[:end]
			if end < len(full) && strings.HasPrefix(last, prefix+"/") {
				continue // looked at with the entry before
			}
			lower := strings.ToLower(prefix)
			if first, ok := seen[lower]; !ok {
				seen[lower] = prefix
			} else if first != prefix {
				out = append(out, CaseClash{first, prefix})
			}
		}
		last = full
	}
	return out
}
