package agent

import (
	"context"
	"fmt"
	"net"
	"strings"
	"testing"

	"tartine/internal/calls"
	"tartine/internal/site"
)

// BenchmarkDeploy2000SmallFiles is both sides of the protocol and the engine, over a pipe in one process.
func BenchmarkDeploy2000SmallFiles(b *testing.B) {
	c := content{}
	for i := range 2000 {
		c[fmt.Sprintf("tides/%02d/%04d.html", i%20, i)] = strings.Repeat(fmt.Sprint("tide ", i), 400)
	}
	entries := c.entries()
	var bytes int64
	for i := range entries {
		bytes += entries[i].Size
	}
	b.SetBytes(bytes)
	for b.Loop() {
		near, far := net.Pipe()
		go func() {
			_ = Serve(context.Background(), far, far, "test", openIn(b.TempDir())) // it ends with the pipe
			far.Close()
		}()
		client, err := Connect(b.Context(), near, near, near, "test", Root{Path: "www"})
		if err != nil {
			b.Fatal(err)
		}
		survey, err := calls.Survey.On(b.Context(), client, calls.Surveying{As: 1, Believe: true})
		if err != nil {
			b.Fatal(err)
		}
		compared, err := calls.Compare.On(b.Context(), client, &calls.Comparing{As: 2, Survey: 1, Recorded: survey.Number > 0, Wanted: site.Wanted{Entries: entries}})
		if err != nil {
			b.Fatal(err)
		}
		out, err := deployed(b.Context(), client, &calls.Staging{As: 3, Comparison: 2, Plan: site.Plan{Want: entries, Result: compared.Result, Open: c.open}}, &site.Watch{})
		if err != nil || out.SentFiles != len(entries) {
			b.Fatal(err, out)
		}
		client.Close()
	}
}
