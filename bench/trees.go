package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
)

var words = strings.Fields("gannet puffin rock tide kittiwake guillemot ledge warden log plate species fog swell north razorbill cliff nest chick")

// writePages writes text files of a size, which pack as pages do, a hundred to a folder.
func writePages(dir string, files, size int) error {
	random := rand.New(rand.NewPCG(7, uint64(files)))
	var page bytes.Buffer
	for i := range files {
		if i%100 == 0 {
			if err := os.MkdirAll(folderOf(dir, i), 0o755); err != nil {
				return err
			}
		}
		page.Reset()
		fmt.Fprintf(&page, "<p>page %d ", i)
		for page.Len() < size {
			page.WriteString(words[random.IntN(len(words))])
			page.WriteByte(' ')
		}
		if err := os.WriteFile(pageName(dir, i), page.Bytes()[:size], 0o644); err != nil {
			return err
		}
	}
	return nil
}

func folderOf(dir string, i int) string {
	return filepath.Join(dir, fmt.Sprintf("s%02d", i/100%100), fmt.Sprintf("d%03d", i/10_000))
}

func pageName(dir string, i int) string {
	return filepath.Join(folderOf(dir, i), fmt.Sprintf("p%d.html", i))
}

// writePicture writes one file whose bytes do not pack.
func writePicture(name string, size int64) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	file, err := os.Create(name)
	if err != nil {
		return err
	}
	defer file.Close()
	random := rand.NewChaCha8([32]byte{7})
	block := make([]byte, 1<<20)
	for done := int64(0); done < size; done += int64(len(block)) {
		if _, err := random.Read(block); err != nil {
			return err
		}
		if _, err := file.Write(block[:min(int64(len(block)), size-done)]); err != nil {
			return err
		}
	}
	return file.Close()
}
