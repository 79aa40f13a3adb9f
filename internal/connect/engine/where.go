package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/moby/moby/client"
)

// The environment and the files that say where an engine is belong to the engine's own tools: DOCKER_HOST, with
// DOCKER_CERT_PATH and DOCKER_TLS_VERIFY; DOCKER_CONTEXT or currentContext in ~/.docker/config.json, which names a
// context whose description lies under the SHA-256 of its name.

// whereabouts is where an engine is.
type whereabouts struct {
	host string
	tls  *keys
}

// keys are the files for TLS.
type keys struct{ authority, certificate, key string }

func find(address string) (whereabouts, error) {
	folder := os.Getenv("DOCKER_CONFIG")
	if folder == "" {
		home, err := os.UserHomeDir()
		if err == nil {
			folder = filepath.Join(home, ".docker")
		}
	}
	if address == "" {
		address = os.Getenv(client.EnvOverrideHost)
	}
	if address != "" {
		return whereabouts{address, fromEnvironment(folder)}, nil
	}
	name := os.Getenv("DOCKER_CONTEXT")
	if name == "" {
		var settings struct {
			CurrentContext string `json:"currentContext"`
		}
		file := filepath.Join(folder, "config.json")
		text, err := os.ReadFile(file)
		if err == nil {
			err = json.Unmarshal(text, &settings)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return whereabouts{}, &Error{Where: file, Err: fmt.Errorf("the file that names the context cannot be read: %w", err)}
		}
		name = settings.CurrentContext
	}
	if name == "" || name == "default" {
		return whereabouts{client.DefaultDockerHost, nil}, nil
	}
	return fromContext(folder, name)
}

func fromEnvironment(folder string) *keys {
	if dir := os.Getenv(client.EnvOverrideCertPath); dir != "" {
		folder = dir
	}
	if os.Getenv(client.EnvTLSVerify) == "" {
		return nil
	}
	return keysIn(folder)
}

// keysIn names the files for TLS in a folder, as far as they are there.
func keysIn(folder string) *keys {
	file := func(name string) string {
		full := filepath.Join(folder, name)
		if _, err := os.Stat(full); err != nil {
			return ""
		}
		return full
	}
	return &keys{file("ca.pem"), file("cert.pem"), file("key.pem")}
}

func fromContext(folder, name string) (whereabouts, error) {
	sum := sha256.Sum256([]byte(name))
	id := hex.EncodeToString(sum[:])
	file := filepath.Join(folder, "contexts", "meta", id, "meta.json")
	var context struct {
		Endpoints map[string]struct {
			Host          string
			SkipTLSVerify bool
		}
	}
	text, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(text, &context)
	}
	endpoint := context.Endpoints["docker"]
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return whereabouts{}, &Error{Where: fmt.Sprintf("context %q", name),
			Err: fmt.Errorf("there is no such context in %s", folder)}
	case err != nil:
		return whereabouts{}, &Error{Where: fmt.Sprintf("context %q", name), Err: err}
	case endpoint.Host == "":
		return whereabouts{}, &Error{Where: fmt.Sprintf("context %q", name),
			Err: fmt.Errorf("%s names no address", file)}
	}
	out := whereabouts{host: endpoint.Host}
	secrets := filepath.Join(folder, "contexts", "tls", id, "docker")
	if _, err := os.Stat(secrets); err == nil {
		out.tls = keysIn(secrets)
	}
	return out, nil
}
