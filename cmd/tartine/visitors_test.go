//go:build linux

package main

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tartine/internal/testservers/webtest"
)

// nginx serves a folder on loopback and gives the address.
func nginx(t *testing.T, root string) string {
	t.Helper()
	port := webtest.Port(t)
	webtest.Nginx(t, port, fmt.Sprintf("server { listen 127.0.0.1:%d; root %s; }", port, root))
	return fmt.Sprint("http://127.0.0.1:", port)
}

var script = regexp.MustCompile(`src="([^"]+)"`)

// TestVisitorsWhoHoldPagesMeetNothingMissing deploys again and again under visitors who ask for what a page refers to only after a while.
func TestVisitorsWhoHoldPagesMeetNothingMissing(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("visitors take their time")
	}
	for retire, wanted := range map[string]func(missing int64) bool{
		"10m": func(missing int64) bool { return missing == 0 },
		"0s":  func(missing int64) bool { return missing > 0 }, // what it is good for
	} {
		t.Run("retired after "+retire, func(t *testing.T) {
			t.Parallel()
			p := newPlace(t, "url: site, retire: {after: "+retire+"}")
			edition := func(n int) {
				for _, asset := range []string{"app", "rock"} {
					old, err := filepath.Glob(filepath.Join(p.dir, "public", asset+"-*"))
					require.NoError(t, err)
					for _, name := range old {
						require.NoError(t, os.Remove(name))
					}
				}
				p.write(fmt.Sprintf("public/app-%d.js", n), fmt.Sprintf("app(%d)", n))
				p.write(fmt.Sprintf("public/rock-%d.js", n), fmt.Sprintf("rock(%d)", n))
				p.write("public/index.html", fmt.Sprintf(`<script src="app-%d.js"></script><script src="rock-%[1]d.js"></script>`, n))
			}
			edition(0)
			p.tartine("deploy")
			address := nginx(t, filepath.Join(p.dir, "site"))
			client := &http.Client{Timeout: 10 * time.Second}
			get := func(path string) (int, string, error) {
				answer, err := client.Get(address + "/" + path)
				if err != nil {
					return 0, "", err
				}
				defer answer.Body.Close()
				text, err := io.ReadAll(answer.Body)
				return answer.StatusCode, string(text), err
			}
			var (
				over, missing, asked, broken atomic.Int64
				visiting                     sync.WaitGroup
			)
			for range 20 {
				visiting.Go(func() {
					for over.Load() == 0 {
						status, page, err := get("index.html")
						if status != http.StatusOK || err != nil {
							broken.Add(1)
							return
						}
						<-time.After(rand.N(2 * time.Second))
						for _, match := range script.FindAllStringSubmatch(page, -1) {
							asked.Add(1)
							if status, _, _ := get(match[1]); status == http.StatusNotFound {
								missing.Add(1)
							}
						}
					}
				})
			}
			for n := 1; n <= 30; n++ {
				edition(n)
				require.Contains(t, p.tartine("deploy"), fmt.Sprintf("deployment %d", n+1))
				<-time.After(100 * time.Millisecond)
			}
			<-time.After(2 * time.Second) // those who hold pages ask
			over.Store(1)
			visiting.Wait()
			t.Logf("%d of %d requests for what pages refer to met nothing", missing.Load(), asked.Load())
			require.Zero(t, broken.Load())
			require.Greater(t, asked.Load(), int64(50))
			require.True(t, wanted(missing.Load()), "%d missing", missing.Load())
			if retire != "0s" {
				require.Contains(t, p.tartine("verify"), "leaving     60 files")
			}
			require.NotContains(t, strings.Join(p.left(), " "), ".tartine-")
		})
	}
}

// left gives the names at the top of the site.
func (p *place) left() (names []string) {
	list, err := os.ReadDir(filepath.Join(p.dir, "site"))
	require.NoError(p.t, err)
	for _, entry := range list {
		names = append(names, entry.Name())
	}
	return names
}
