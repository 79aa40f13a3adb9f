package render

import "strings"

// RanJSON writes as an object what a program that was run has written, and how it ended.
func (p *Printer) RanJSON(h Heading, command []string, status int, stdout, stderr string) error {
	return WriteJSON(p.Out, struct {
		Target  string   `json:"target"`
		Command []string `json:"command"`
		Status  int      `json:"status"`
		Stdout  string   `json:"stdout"`
		Stderr  string   `json:"stderr"`
	}{h.Name(), command, status, strings.ToValidUTF8(stdout, "\ufffd"), strings.ToValidUTF8(stderr, "\ufffd")})
}
