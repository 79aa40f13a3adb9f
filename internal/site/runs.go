package site

import (
	"bufio"
	"encoding/json"
	"io"

	"tartine/internal/fsys"
)

// The journal is JSON. In version 2 a phase is a list of runs: steps of one kind in one folder, one behind the other. A run
// names the folder and what is done, and a step the last element of its path and what else there is to say of it, but not where
// its content is staged if that is the usual place. So a journal is written, and the change that it is about told, folder by
// folder.
//
//	{"version":2,"number":7,"started":"…","runs":[
//	[
//	{"do":"place","in":"img/plates","steps":[{"name":"puffin.webp","mode":420,"size":9113,"digest":"sha256:…"}]}
//	]
//	]}
//
// Version 3 is the same, of a site that is switched: what most of a tree consists of is one step in it (see fill.go), which an older
// program does not know. In version 1, which has no number, phases are lists of whole steps under the key "phases". It is read: a publish that an older
// program began is finished by this one. An older program says of version 2 that it has no steps, and finishes nothing.

// The versions that are written.
const (
	journalVersion = 2
	switchVersion  = 3
)

// run is steps of one kind in one folder.
type run struct {
	Do    string    `json:"do"`
	In    string    `json:"in"`
	Steps []runStep `json:"steps"`
}

// runStep is a step of a run. What it does, and its path, are not in it.
type runStep struct {
	Name string `json:"name"`
	step
}

// writeTo writes a journal down.
func (j *journal) writeTo(to io.Writer) error {
	head := *j
	if head.Version, head.Phases = journalVersion, nil; j.Tree != "" {
		head.Version = switchVersion
	}
	text, err := json.Marshal(&head)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(to, 16<<10)
	out.Write(text[:len(text)-1]) // Flush gives the error
	out.WriteString(`,"runs":[`)
	for i, phase := range j.Phases {
		if i > 0 {
			out.WriteByte(',')
		}
		if err := writeRuns(out, phase); err != nil {
			return err
		}
	}
	out.WriteString("\n]}\n")
	return out.Flush()
}

// writeRuns writes a phase, a run a line.
func writeRuns(out *bufio.Writer, phase []step) error {
	before := "\n[\n"
	for len(phase) > 0 {
		dir, _ := fsys.Split(phase[0].Path)
		r := run{Do: phase[0].Do, In: dir}
		for len(phase) > 0 && phase[0].Do == r.Do {
			in, name := fsys.Split(phase[0].Path)
			if in != dir {
				break
			}
			st := runStep{name, phase[0]}
			st.Do, st.Path = "", ""
			if st.From != "" && st.Digest != nil && st.From == usualPlace(st.Digest) {
				st.From = ""
			}
			r.Steps, phase = append(r.Steps, st), phase[1:]
		}
		text, err := json.Marshal(&r)
		if err != nil {
			return err
		}
		out.WriteString(before)
		out.Write(text)
		before = ",\n"
	}
	if before == "\n[\n" { // a phase without steps
		out.WriteString(before)
	}
	out.WriteString("\n]")
	return nil
}

// parseJournal reads a journal, of which nothing is checked but its form.
func parseJournal(text []byte) (*journal, error) {
	file := struct {
		journal
		Runs [][]run `json:"runs"`
	}{}
	if err := json.Unmarshal(text, &file); err != nil {
		return nil, err
	}
	j := &file.journal
	switch {
	case j.Version > switchVersion:
		return nil, notKnown(j.Version, switchVersion)
	case j.Version < journalVersion:
		return j, nil
	}
	j.Phases = make([][]step, len(file.Runs))
	for i, runs := range file.Runs {
		for _, r := range runs {
			for _, st := range r.Steps {
				st.Do, st.Path = r.Do, fsys.Join(r.In, st.Name)
				st.From = st.from()
				j.Phases[i] = append(j.Phases[i], st.step)
			}
		}
	}
	return j, nil
}
