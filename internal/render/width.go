package render

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// The widths for which lines are laid out, in columns. On a terminal that is narrower or wider it is as if it were one
// of these.
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

// wrapped breaks a text between words so that it fits beside an indent.
func (p *Printer) wrapped(text string, indent int) painted {
	text = Safe(text)
	if room := p.room(); room > 0 {
		text = Wrap(text, indent, room)
	}
	return painted(text)
}

// Wrap breaks a text between words into lines of so many columns at most. All but the first begin with an indent,
// beside which the first is taken to be there, too. Words that are longer than that stay whole, and so does a text that
// fits.
func Wrap(text string, indent, columns int) string {
	if utf8.RuneCountInString(text) <= columns-indent {
		return text
	}
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && utf8.RuneCountInString(line+" "+word) > columns-indent {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return strings.Join(append(lines, line), "\n"+strings.Repeat(" ", indent))
}

// columnGap is how many columns are between two of a table.
const columnGap = 2

// widthsOf gives how wide the columns of a table are.
func widthsOf(rows [][]string) []int {
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	return widths
}

// total gives how wide a table is.
func total(widths []int) int {
	sum := -columnGap
	for _, width := range widths {
		sum += width + columnGap
	}
	return sum
}

// without gives rows without as many of some columns, in their order, as it takes until they fit.
func (p *Printer) without(rows [][]string, columns ...int) [][]string {
	for _, column := range columns {
		if p.room() == 0 || total(widthsOf(rows)) <= p.room() {
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
	const least = 6
	for p.room() > 0 && total(widths) > p.room() {
		at := -1
		for i, width := range widths {
			if may(i) && width > least && (at < 0 || width > widths[at]) {
				at = i
			}
		}
		if at < 0 {
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
