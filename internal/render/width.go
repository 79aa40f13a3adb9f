package render

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// The widths for which lines are laid out, in columns. On a terminal that is narrower or wider it is as if it were one of these.
const (
	narrowest = 40
	widest    = 200
)

// room gives how many columns there are; 0: any number, as in a file.
func (p *Printer) room() int {
	if p.Width == 0 {
		return 0
	}
	return min(max(p.Width, narrowest), widest)
}

// wrapped breaks a text between words so that it fits beside an indent. Words that are longer than that stay whole.
func (p *Printer) wrapped(text string, indent int) painted {
	text = Safe(text)
	room := p.room() - indent
	if p.room() == 0 || utf8.RuneCountInString(text) <= room {
		return painted(text)
	}
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && utf8.RuneCountInString(line+" "+word) > room {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return painted(strings.Join(append(lines, line), "\n"+strings.Repeat(" ", indent)))
}

// without gives rows without as many of some columns, in their order, as it takes until they fit.
func (p *Printer) without(rows [][]string, columns ...int) [][]string {
	for _, column := range columns {
		total := -2
		for i := range rows[0] {
			total += 2
			widest := 0
			for _, row := range rows {
				widest = max(widest, utf8.RuneCountInString(row[i]))
			}
			total += widest
		}
		if p.room() == 0 || total <= p.room() {
			break
		}
		for i, row := range rows {
			rows[i] = slices.Delete(slices.Clone(row), column, column+1)
		}
	}
	return rows
}

// fit makes columns narrower, the widest of those that may be first, until rows fit.
func (p *Printer) fit(widths []int, may func(column int) bool) {
	const gap, least = 2, 6
	for p.room() > 0 {
		total, at := -gap, -1
		for i, width := range widths {
			total += width + gap
			if may(i) && width > least && (at < 0 || width > widths[at]) {
				at = i
			}
		}
		if total <= p.room() || at < 0 {
			return
		}
		widths[at]--
	}
}

// cut takes the middle out of a text that is too long.
func cut(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	const gap = ".."
	head := (width - len(gap)) / 2
	return string(runes[:head]) + gap + string(runes[len(runes)-(width-len(gap)-head):])
}
