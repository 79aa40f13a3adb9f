//go:build linux

package main

import (
	"crypto/sha1"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/webtest"
)

// visited is a site that a web server shows.
type visited struct {
	*place
	root string
	port int
}

// visit gives a site that is to be served at a port, by TLS with a certificate of an authority.
func visit(t *testing.T, authority *webtest.Authority, more string) *visited {
	t.Helper()
	v := &visited{port: webtest.Port(t)}
	v.place = newPlace(t, fmt.Sprintf("url: site, web: \"https://127.0.0.1:%d/\", web_ca: %q%s", v.port, authority.File, more))
	v.root = filepath.Join(v.dir, "site")
	for _, dir := range []string{v.dir, filepath.Dir(v.dir)} { // Apache's is another user
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	for name, text := range map[string]string{"404.html": "<h1>not here", "js/app.js": strings.Repeat("let gannet = 1;\n", 200), "tides/2027.txt": "high water",
		"tides/index.html": "<!doctype html>\n<html>\n<body>\n<p>tides\n</body>\n</html>\n", ".well-known/security.txt": "Contact: https://rock.example/", ".hidden/note": "keep out",
		"plate one.svg": "<svg/>", "count.php": "<?php count();"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(v.dir, "public", name)), 0o755))
		v.write("public/"+name, text)
	}
	v.tartine("deploy", "--no-commands")
	return v
}

// finds looks through the web and gives what is found, by path: its kind and note.
func (v *visited) finds(args ...string) map[string]string {
	v.t.Helper()
	status, out := v.try(append([]string{"verify", "--web", "--format", "json"}, args...)...)
	var report struct {
		Result   string
		Findings []struct{ Path, Kind, Note string }
	}
	require.NoError(v.t, json.NewDecoder(strings.NewReader(out[max(strings.Index(out, "{"), 0):])).Decode(&report), "%s", out)
	found := map[string]string{}
	for _, f := range report.Findings {
		found[f.Path] = f.Kind + ": " + f.Note
	}
	if len(found) == 0 {
		require.Zero(v.t, status, out)
		require.Equal(v.t, "match", report.Result)
	} else {
		require.Equal(v.t, 1, status, out)
		require.Equal(v.t, "differs", report.Result)
	}
	return found
}

func TestTheLookThroughTheWeb(t *testing.T) {
	t.Parallel()
	authority := webtest.NewAuthority(t)
	certificate, key := authority.Sign(t, 300*24*time.Hour)
	ending, endingKey := authority.Sign(t, 5*24*time.Hour)
	secure := func(port int) string {
		return fmt.Sprintf("listen 127.0.0.1:%d ssl http2; ssl_certificate %s; ssl_certificate_key %s;", port, certificate, key)
	}
	const denied = "location ~ /\\.(?!well-known) { deny all; } location ~ \\.php$ { return 200 '7'; }"

	t.Run("nginx", func(t *testing.T) {
		t.Parallel()
		v := visit(t, authority, "")
		webtest.Nginx(t, v.port, fmt.Sprintf("server { %s root %s; gzip on; gzip_min_length 10; gzip_types text/css text/javascript; error_page 404 /404.html; %s }", secure(v.port), v.root, denied))
		out := v.tartine("verify", "--web")
		require.Contains(t, out, "match")
		require.Contains(t, out, "10 files asked for, 3 compressed on the way, 1 run by the server and not compared, 1 with a dot before the name, and not served")
		require.Contains(t, out, "over HTTP/2")
		require.Contains(t, v.tartine("verify", "--web"), "8 unchanged since they came before")
		require.Contains(t, v.tartine("verify", "--web", "--sample", "3"), "3 of 10 files asked for, at random")

		// Other bytes, of the same length and time; old ones; none; a body that is cut short.
		info, err := os.Stat(filepath.Join(v.root, "css", "rock.css"))
		require.NoError(t, err)
		v.write("public/index.html", "<h1>new")
		v.tartine("deploy")
		v.write("site/index.html", "<h1>")
		v.write("site/css/rock.css", "h2 {}")
		require.NoError(t, os.Chtimes(filepath.Join(v.root, "css", "rock.css"), info.ModTime(), info.ModTime().Add(time.Second)))
		require.NoError(t, os.Remove(filepath.Join(v.root, "tides", "2027.txt")))
		v.write("site/js/app.js", "let gannet")
		require.Equal(t, map[string]string{"index.html": "old: as deployment 1 had it", "css/rock.css": "wrong: other bytes, as many as were sent",
			"tides/2027.txt": "missing: the server answers 404", "js/app.js": "wrong: 10 bytes come, and 3200 were sent"}, v.finds())
		v.tartine("deploy", "--compare", "hash", "--yes")
		require.Empty(t, v.finds())
		v.write("tartine.yaml", strings.ReplaceAll(v.read("tartine.yaml"), "web: ", "web_check: true, web: "))
		v.write("public/css/rock.css", "h3 {}")
		_, said := v.try("deploy")
		require.Regexp(t, "well +web +what changed", said)
		text := v.tartine("manifest", "--output", "rock.json")
		require.NotContains(t, text, "error")
		require.Contains(t, v.tartine("verify", "--web", "--manifest", "rock.json"), "match")
	})

	t.Run("nginx that does what it should not", func(t *testing.T) {
		t.Parallel()
		v := visit(t, authority, "")
		webtest.Nginx(t, v.port, fmt.Sprintf(`default_type text/plain; server { listen 127.0.0.1:%d ssl; ssl_certificate %s; ssl_certificate_key %s; root %s; autoindex on;
location = /js/app.js { return 302 /elsewhere.js; } location = /plate%%20one.svg { return 503; } location = "/plate one.svg" { return 503; }
location = /css/rock.css { types { text/plain css; } } location = /tides/ { sub_filter "</body>" "<script>spy()</script></body>"; index index.html; }
location = /tides/index.html { sub_filter "</body>" "<script>spy()</script></body>"; } }`, v.port, ending, endingKey, v.root))
		require.NoError(t, os.MkdirAll(filepath.Join(v.root, ".git"), 0o755))
		v.write("site/.git/HEAD", "ref: refs/heads/main")
		require.NoError(t, os.WriteFile(filepath.Join(v.root, ".htpasswd"), []byte("warden:x"), 0o644))
		require.Equal(t, map[string]string{"js/app.js": fmt.Sprintf("redirected: to https://127.0.0.1:%d/elsewhere.js (302)", v.port), "plate one.svg": "status: the server answers 503",
			"css/rock.css": "type: it comes as text/plain", "tides/index.html": `rewritten: 22 bytes are put in at byte 39: "<script>spy()</script>"`,
			".git/HEAD": "served: it should not be", ".htpasswd": "served: it should not be", ".hidden/note": "served: its name begins with a dot",
			".well-known/": "served: the server lists what is in the folder", "css/": "served: the server lists what is in the folder", "js/": "served: the server lists what is in the folder",
			"count.php": "served: its source is given, and not what it writes"}, v.finds())
		_, out := v.try("verify", "--web")
		require.Contains(t, out, "warning  the certificate ends on "+time.Now().Add(5*24*time.Hour).Format("2006-01-02"))
		require.Contains(t, out, "7 served")
	})

	t.Run("a cache", func(t *testing.T) {
		t.Parallel()
		v := visit(t, authority, ", check: [{web: changed}], within: 40s")
		behind := webtest.Port(t)
		webtest.Nginx(t, v.port, fmt.Sprintf(`proxy_cache_path @DIR@/cache keys_zone=rock:1m; server { listen 127.0.0.1:%d; root %s; add_header Cache-Control max-age=10; %s }
server { %s location / { proxy_pass http://127.0.0.1:%[1]d; proxy_cache rock; proxy_cache_valid 200 10s; proxy_set_header If-None-Match ""; add_header Age 2; } }`, behind, v.root, denied, secure(v.port)))
		require.Empty(t, v.finds())
		v.write("public/index.html", "<h1>new")
		v.tartine("deploy", "--no-commands")
		found := v.finds()
		require.Contains(t, found["index.html"], "old: as deployment 1 had it")
		require.Contains(t, found["index.html"], "Cache-Control: max-age=10")
		require.Contains(t, found["index.html"], "Age: 2")
		require.Equal(t, "old: as deployment 1 had it", v.finds("--resolve", fmt.Sprintf("127.0.0.1:%d:127.0.0.1", v.port))["index.html"][:27])

		// A deployment waits until caches have let go; within too short a time it is rolled back.
		v.write("public/index.html", "<h1>newest")
		_ = v.finds() // what was before is in the cache again
		status, out := v.try("deploy")
		require.Zero(t, status, out)
		require.Contains(t, out, "well        web    what changed, after ")
		v.write("tartine.yaml", strings.ReplaceAll(v.read("tartine.yaml"), "within: 40s", "within: 600ms"))
		_ = v.finds()
		v.write("public/index.html", "<h1>last")
		status, out = v.try("deploy")
		require.Equal(t, 6, status, out)
		require.Contains(t, out, "through the web: index.html: old, as deployment 3 had it")
		require.Equal(t, "<h1>newest", v.read("site/index.html"))
	})

	t.Run("Apache's", func(t *testing.T) {
		t.Parallel()
		v := visit(t, authority, ", web_user: warden, web_password: {command: [echo, gannet-1911]}")
		v.write("tartine.yaml", strings.ReplaceAll(v.read("tartine.yaml"), "https://", "http://"))
		sum := sha1.Sum([]byte("gannet-1911"))
		v.write("users", "warden:{SHA}"+base64.StdEncoding.EncodeToString(sum[:])+"\n")
		webtest.Apache(t, v.port, fmt.Sprintf(`DocumentRoot %s
<Directory />
Require all denied
</Directory>
<Directory %[1]s>
Options -Indexes
DirectoryIndex index.html
AuthType Basic
AuthName rock
AuthUserFile %[2]s/users
Require valid-user
</Directory>
ErrorDocument 404 /404.html
AddOutputFilterByType DEFLATE text/html text/css text/javascript
<FilesMatch "\.php$">
ForceType text/plain
Header set X-None none
</FilesMatch>
<DirectoryMatch "/\.(?!well-known)">
Require all denied
</DirectoryMatch>`, v.root, v.dir))
		require.Equal(t, map[string]string{"count.php": "served: its source is given, and not what it writes"}, v.finds())
		status, out := v.try("verify", "--web")
		require.Equal(t, 1, status)
		require.Regexp(t, `[1-9] compressed on the way`, out)
		require.NotContains(t, out, "gannet-1911")
		v.write("tartine.yaml", strings.ReplaceAll(v.read("tartine.yaml"), "gannet-1911", "wrong"))
		require.Equal(t, "status: the server answers 401", v.finds()["index.html"])
	})

	t.Run("no answer", func(t *testing.T) {
		t.Parallel()
		v := visit(t, authority, "")
		fails := func(status int, words string, args ...string) {
			t.Helper()
			got, out := v.try(append([]string{"verify", "--web"}, args...)...)
			require.Equal(t, status, got, out)
			require.Contains(t, out, words)
		}
		fails(3, "connection refused")
		webtest.Nginx(t, v.port, fmt.Sprintf("server { %s root %s; server_name rock.example; } server { %[1]s server_name other.example; return 301 https://rock.example:%[3]d$request_uri; }", secure(v.port), v.root, v.port))
		was := v.read("tartine.yaml")
		v.write("tartine.yaml", strings.ReplaceAll(was, fmt.Sprintf(", web_ca: %q", authority.File), ""))
		fails(3, "its certificate is signed by an authority that is not known here")
		v.write("tartine.yaml", strings.ReplaceAll(was, "https://127.0.0.1", "https://nowhere.rock.invalid"))
		fails(3, "there is no host of the name nowhere.rock.invalid")
		v.write("tartine.yaml", strings.ReplaceAll(was, "https://127.0.0.1", "https://other.example"))
		fails(3, "its certificate is for another name: rock.example, localhost", "--resolve", fmt.Sprintf("other.example:%d:127.0.0.1", v.port))
		fails(2, "is not HOST:PORT:ADDRESS", "--resolve", "other.example:127.0.0.1")
		v.write("tartine.yaml", strings.ReplaceAll(strings.ReplaceAll(was, "https://127.0.0.1", "http://127.0.0.1"), "web: ", "insecure: true, web: "))
		fails(1, "status") // the plain request that a server for TLS refuses
		v.write("tartine.yaml", "content: [{source: public}]\ntargets: {rock: {url: site}}\n")
		fails(2, "the settings do not say at which address visitors see rock")
	})
}

// TestTheDoctorGoesOnToTheWeb tries whether what is served is the root that is written to.
func TestTheDoctorGoesOnToTheWeb(t *testing.T) {
	t.Parallel()
	authority := webtest.NewAuthority(t)
	certificate, key := authority.Sign(t, 300*24*time.Hour)
	v := visit(t, authority, "")
	other := t.TempDir()
	require.NoError(t, os.Chmod(other, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(other, "index.html"), []byte("<h1>"), 0o644))
	wrong := webtest.Port(t)
	webtest.Nginx(t, v.port, fmt.Sprintf("server { listen 127.0.0.1:%d ssl; ssl_certificate %s; ssl_certificate_key %s; root %s; } server { listen 127.0.0.1:%d; root %s; }", v.port, certificate, key, v.root, wrong, other))
	out := v.tartine("doctor")
	require.Regexp(t, `good +certificate +it holds until`, out)
	require.Regexp(t, `good +front page +it answers 200`, out)
	require.Regexp(t, `good +served root +a file that was put there came back, and was removed`, out)
	names, err := filepath.Glob(filepath.Join(v.root, "tartine-*"))
	require.NoError(t, err)
	require.Empty(t, names)
	v.tartine("verify")
	v.write("tartine.yaml", strings.ReplaceAll(v.read("tartine.yaml"), fmt.Sprintf("https://127.0.0.1:%d", v.port), fmt.Sprintf("http://127.0.0.1:%d", wrong)))
	status, out := v.try("doctor")
	require.Equal(t, 1, status, out)
	require.Regexp(t, `wrong +served root +the server answers 404 for a file that was put there`, out)
	require.NoFileExists(t, filepath.Join(other, "none"))
}
