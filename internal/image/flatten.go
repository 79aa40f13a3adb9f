package image

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
)

// What a layer holds for what it removes from those below it.
const (
	whiteout = ".wh."
	opaque   = ".wh..wh..opq"
)

// LeadsOutError tells that a name in a layer leads out of the image.
type LeadsOutError struct{ Name string }

func (e *LeadsOutError) Error() string { return fmt.Sprintf("the name %q leads out of it", e.Name) }

// NoFolderError tells that an image has no such folder.
type NoFolderError struct{ Folder string }

func (e *NoFolderError) Error() string { return fmt.Sprintf("the folder %s is not in it", e.Folder) }

// Flatten writes what is in a folder of an image, as a tar of which that folder is the top. Of the layers only those count
// that are wanted; nil: all; the others are only compared with their digests. Hard links are written as files of their own.
func (i *Image) Flatten(ctx context.Context, folder string, out io.Writer, wanted func(layer int) bool) error {
	f := &flattening{image: i, folder: strings.Trim(path.Clean("/"+folder), "/"), gone: map[string]bool{}, hollow: map[string]bool{}, seen: map[string]bool{}}
	plans := make([]*layerPlan, len(i.Layers))
	for at := len(i.Layers) - 1; at >= 0; at-- {
		if wanted != nil && !wanted(at) {
			err := f.each(ctx, &i.Layers[at], func(int, string, *tar.Header, io.Reader) error { return nil })
			if err != nil { // it is not what its digest says
				return err
			}
			continue
		}
		plan, err := f.survey(ctx, &i.Layers[at])
		if err != nil {
			return err
		}
		plans[at] = plan
	}
	if f.folder != "" && !f.found {
		return &NoFolderError{"/" + f.folder}
	}
	w := tar.NewWriter(out)
	for at, plan := range plans {
		if plan == nil || len(plan.take) == 0 {
			continue
		}
		if err := f.copy(ctx, &i.Layers[at], plan, w); err != nil {
			return err
		}
	}
	return w.Close()
}

// flattening goes through layers from the top down.
type flattening struct {
	image  *Image
	folder string          // "" is the top
	gone   map[string]bool // with all below them, in the layers that follow
	hollow map[string]bool // folders of which nothing lower counts but themselves
	seen   map[string]bool
	found  bool // the folder, or something in it
}

// layerPlan is what counts of a layer: by the number of an entry the names under which it is written.
type layerPlan struct{ take map[int][]string }

// survey finds what counts of a layer.
func (f *flattening) survey(ctx context.Context, l *Layer) (*layerPlan, error) {
	var (
		last  = map[string]int{}    // the entry that counts of each name
		links = map[string]string{} // hard links, and what they lead to
		kinds = map[string]byte{}
		gone  []string
		empty []string
		place = map[string]int{}
	)
	err := f.each(ctx, l, func(number int, name string, h *tar.Header, _ io.Reader) error {
		dir, base := path.Split(name)
		switch {
		case base == opaque:
			empty = append(empty, strings.TrimSuffix(dir, "/"))
			return nil
		case strings.HasPrefix(base, whiteout):
			gone = append(gone, dir+base[len(whiteout):])
			return nil
		}
		last[name], kinds[name] = number, h.Typeflag
		delete(links, name)
		if h.Typeflag == tar.TypeLink {
			target, err := clean(h.Linkname)
			if err != nil {
				return err
			}
			if further, chained := links[target]; chained {
				target = further
			}
			links[name] = target
		} else {
			place[name] = number
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	plan := &layerPlan{map[int][]string{}}
	for name, number := range last {
		below, in := f.within(name)
		if f.seen[name] || f.covered(name) {
			continue
		}
		if target, link := links[name]; link {
			var known bool
			if number, known = place[target]; !known && in {
				return nil, fmt.Errorf("%w: %s: %q is a hard link to %q, which is not in the layer", ErrDamaged, l.Name, name, target)
			}
		}
		f.found = f.found || in || name == f.folder && kinds[name] == tar.TypeDir
		if in {
			plan.take[number] = append(plan.take[number], below)
		}
	}
	for name := range last {
		f.seen[name] = true
		if kinds[name] != tar.TypeDir {
			f.gone[name] = true
		}
	}
	for _, name := range gone {
		f.gone[name] = true
	}
	for _, name := range empty {
		f.hollow[name] = true
	}
	return plan, nil
}

// within gives a name relative to the folder that is wanted, and whether it is in it.
func (f *flattening) within(name string) (string, bool) {
	if f.folder == "" {
		return name, true
	}
	return strings.CutPrefix(name, f.folder+"/")
}

// covered tells whether a layer above takes a name away.
func (f *flattening) covered(name string) bool {
	if f.gone[name] {
		return true
	}
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if f.gone[dir] || f.hollow[dir] {
			return true
		}
	}
	return f.hollow[""]
}

// copy writes what counts of a layer; a file with several names in as many passes, so that none has to be kept.
func (f *flattening) copy(ctx context.Context, l *Layer, plan *layerPlan, w *tar.Writer) error {
	passes := 0
	for _, names := range plan.take {
		slices.Sort(names)
		passes = max(passes, len(names))
	}
	for pass := range passes {
		err := f.each(ctx, l, func(number int, _ string, h *tar.Header, in io.Reader) error {
			if names := plan.take[number]; pass < len(names) {
				return put(w, h, names[pass], in)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func put(w *tar.Writer, h *tar.Header, name string, in io.Reader) error {
	out := &tar.Header{Typeflag: h.Typeflag, Name: name, Linkname: h.Linkname, Mode: h.Mode, ModTime: h.ModTime, Devmajor: h.Devmajor,
		Devminor: h.Devminor}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeGNUSparse, tar.TypeCont:
		out.Typeflag, out.Size = tar.TypeReg, h.Size
	case tar.TypeDir:
		out.Name += "/"
	}
	if err := w.WriteHeader(out); err != nil {
		return err
	}
	if out.Size == 0 {
		return nil
	}
	_, err := io.Copy(w, in)
	return err
}

// each calls for each entry of a layer, in its order, and reads the layer to its end, so that its digest is compared.
func (f *flattening) each(ctx context.Context, l *Layer, do func(number int, name string, h *tar.Header, in io.Reader) error) error {
	in, err := f.image.Tar(l)
	if err != nil {
		return err
	}
	defer in.Close()
	t := tar.NewReader(in)
	for number := 0; ; number++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return damaged(l, err)
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			continue
		}
		name, err := clean(h.Name)
		if err != nil {
			return err
		}
		if name == "." {
			continue
		}
		if err := do(number, name, h, t); err != nil {
			return damaged(l, err)
		}
	}
	_, err = io.Copy(io.Discard, in)
	return damaged(l, err)
}

func damaged(l *Layer, err error) error {
	if err == nil || errors.Is(err, ErrDamaged) || errors.As(err, new(*LeadsOutError)) {
		return err
	}
	return fmt.Errorf("%w: %s: %w", ErrDamaged, l.Name, err)
}

// clean gives a name in a layer relative to its top.
func clean(name string) (string, error) {
	if slices.Contains(strings.Split(name, "/"), "..") {
		return "", &LeadsOutError{name}
	}
	out := strings.TrimPrefix(path.Clean("/"+name), "/")
	if out == "" {
		return ".", nil
	}
	return out, nil
}
