package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"tartine/internal/content"
)

func (a *app) explainCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "explain PATH...",
		Short: "Say why a path is in or out, and where it lands",
		Long: `Explain names the rule that decides about a path, where that rule is written, and where the path lands. A path is one of
this machine or one of the site.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError("tartine explain needs a path", "")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.explainPaths(args) },
	}
	a.configFlag(cmd)
	a.contentFlags(cmd)
	a.outputFlags(cmd)
	return cmd
}

// explained is one explanation in JSON output.
type explained struct {
	Path     string `json:"path"` // as asked
	Local    string `json:"local"`
	Lands    string `json:"lands,omitempty"`
	Taken    bool   `json:"taken"`
	Rule     string `json:"rule,omitempty"`
	Place    string `json:"place,omitempty"`
	Matched  string `json:"matched,omitempty"` // the path that the rule matched
	Reason   string `json:"reason,omitempty"`
	Shadowed string `json:"shadowed_by,omitempty"`
}

func (a *app) explainPaths(asked []string) error {
	from, err := a.load()
	if err != nil {
		return err
	}
	var (
		all     = []explained{}
		missing []string
		p       = a.printer()
	)
	for _, path := range asked {
		explanations := content.Explain(from.sources, from.scan, path)
		if len(explanations) == 0 {
			missing = append(missing, path)
		}
		for _, e := range explanations {
			p.Explanation(&e, from.sources)
			all = append(all, toJSON(path, &e, from.sources))
		}
	}
	if a.json() {
		encoder := json.NewEncoder(a.stdout)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		if err := encoder.Encode(all); err != nil {
			return err
		}
	}
	if len(missing) > 0 {
		return &statusError{status: ExitUsage, what: "no source has this",
			paths: missing, next: "name a path of this machine, relative to this folder, or one of the site"}
	}
	return nil
}

func toJSON(asked string, e *content.Explanation, sources []content.Source) explained {
	out := explained{Path: asked, Local: e.Local, Taken: e.Taken && e.ShadowedBy < 0, Reason: e.Reason, Matched: e.Decision.At}
	if e.Taken {
		out.Lands = e.Path
	}
	if r := e.Decision.Rule; r != nil {
		out.Rule, out.Place = r.Pattern, r.Place
	}
	if e.ShadowedBy >= 0 {
		out.Shadowed = sources[e.ShadowedBy].Path
	}
	return out
}
