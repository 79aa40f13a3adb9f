// Sbom writes what a program is made of as CycloneDX (ECMA-424, JSON, version 1.5), from what the compiler noted in it;
// or, with -notices, the licences of all of that.
package main

import (
	"cmp"
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(args []string) error {
	notices := len(args) == 2 && args[0] == "-notices"
	if len(args) != 1 && !notices {
		return fmt.Errorf("usage: sbom [-notices] PROGRAM")
	}
	info, err := buildinfo.ReadFile(args[len(args)-1])
	if err != nil {
		return err
	}
	slices.SortFunc(info.Deps, func(a, b *debug.Module) int { return cmp.Compare(a.Path, b.Path) })
	if notices {
		return writeNotices(info)
	}
	return writeBill(info)
}

type component struct {
	Type    string `json:"type"`
	Name    string `json:"name"`
	Version string `json:"version"`
	URL     string `json:"purl"`
	Hashes  []hash `json:"hashes,omitempty"`
}

type hash struct {
	Algorithm string `json:"alg"`
	Content   string `json:"content"`
}

func writeBill(info *buildinfo.BuildInfo) error {
	components := []component{{Type: "library", Name: "std", Version: strings.TrimPrefix(info.GoVersion, "go"),
		URL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	for _, m := range info.Deps {
		components = append(components, component{Type: "library", Name: m.Path, Version: m.Version,
			URL: "pkg:golang/" + m.Path + "@" + m.Version})
	}
	bill := map[string]any{"bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
		"metadata": map[string]any{"component": component{Type: "application", Name: "tartine",
			Version: info.Main.Version, URL: "pkg:golang/tartine@" + info.Main.Version}},
		"components": components}
	out := json.NewEncoder(os.Stdout)
	out.SetEscapeHTML(false)
	out.SetIndent("", "  ")
	return out.Encode(bill)
}

// writeNotices writes the licence files of all modules, as they lie in the module cache.
func writeNotices(info *buildinfo.BuildInfo) error {
	fmt.Printf("Tartine contains the software of others, under these licences.\n")
	goroot, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	if err := notice("Go "+info.GoVersion, strings.TrimSpace(string(goroot))); err != nil {
		return err
	}
	for _, m := range info.Deps {
		dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", m.Path).Output()
		if err != nil {
			return fmt.Errorf("find %s: %w", m.Path, err)
		}
		if err := notice(m.Path+" "+m.Version, strings.TrimSpace(string(dir))); err != nil {
			return err
		}
	}
	return nil
}

func notice(name, dir string) error {
	var files []string
	for _, pattern := range []string{"LICENSE*", "LICENCE*", "COPYING*", "NOTICE*", "license*"} {
		found, err := filepath.Glob(filepath.Join(dir, pattern))
		if err != nil {
			return err
		}
		files = append(files, found...)
	}
	if len(files) == 0 {
		fmt.Printf("\n%s\n%s: this module comes without a licence file\n%s\n", strings.Repeat("-", 80), name,
			strings.Repeat("-", 80))
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		fmt.Printf("\n%s\n%s (%s)\n%s\n\n%s", strings.Repeat("-", 80), name, filepath.Base(file),
			strings.Repeat("-", 80), text)
	}
	return nil
}
