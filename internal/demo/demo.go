// Package demo is the example that the program carries: the website of Gannet Rock, a bird observatory that does not
// exist, and a walk through deploying it to a server of its own.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

//go:generate go run ./generate data

//go:embed all:data
var data embed.FS

// Unpack writes the example's files below a folder: site, the pages, and plates, the pictures.
func Unpack(dir string) error {
	return fs.WalkDir(data, "data", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(strings.TrimPrefix(name, "data")))
		if entry.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		content, err := data.ReadFile(name)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if strings.HasSuffix(name, ".sh") { // the executable bit is not carried in the program
			mode = 0o755
		}
		if err := os.WriteFile(to, content, mode); err != nil {
			return fmt.Errorf("unpack the example: %w", err)
		}
		return os.Chmod(to, mode)
	})
}

// Settings is the example's tartine.yaml for a server that is reached over SSH.
func Settings(url, identity, hostKey string) string {
	return settings("url: "+url, "identity: "+identity, "host_key: "+hostKey)
}

// RentedSettings is the example's tartine.yaml for a rented host: FTP over TLS, a password, and the server's
// certificate.
func RentedSettings(url, certificate string) string {
	return settings("url: "+url, "password: {env: "+PasswordVariable+"}", "certificate: "+certificate)
}

// PasswordVariable is the environment variable that holds the password of the example's user.
const PasswordVariable = "GANNET_PASSWORD"

func settings(target ...string) string {
	return fmt.Sprintf(`name: gannet-rock
content:
  - source: site
  - source: plates
    dest: img/plates
    include: ["*.svg"]
    exclude: ["proof-*"]
targets:
  rock:
    %s
`, strings.Join(target, "\n    "))
}
