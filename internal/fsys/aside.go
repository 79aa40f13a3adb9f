package fsys

// asideSuffix ends the name of what makes room for another file.
const asideSuffix = ".tartine-aside"

// ReplaceAside gives a file the name of another one where a rename does not replace: what is there is moved aside first
// and removed at the end; when the new one does not come, it is moved back. For a moment nothing is there.
func ReplaceAside(from, to string, rename func(from, to string) error, remove func(name string) error) error {
	aside := to + asideSuffix
	if err := rename(to, aside); err != nil {
		return err
	}
	if err := rename(from, to); err != nil {
		_ = rename(aside, to) // as it was
		return err
	}
	return remove(aside)
}
