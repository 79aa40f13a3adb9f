// Package main makes the files of the demo: the website of Gannet Rock, a bird observatory that does not exist.
//
// Everything is computed from the tables below and a fixed seed, so that running it again changes nothing.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html"
	"math"
	"strings"
	"time"
)

type bird struct {
	slug, name, latin, about string
	length, span             int // centimetres
	pairs                    int
	hue                      int // degrees, of its plate
}

var birds = []bird{
	{"gannet", "Northern gannet", "Morus bassanus", "The rock is named for it. The first birds are on the north ledges in February, the last leave with the October gales.", 94, 172, 4120, 44},
	{"guillemot", "Common guillemot", "Uria aalge", "Stands in rows on the narrowest ledges and lays a single egg, pointed so that it rolls in a circle.", 42, 68, 2870, 24},
	{"razorbill", "Razorbill", "Alca torda", "Breeds in cracks below the light. Its bill is as deep as a pocket knife and as sharp.", 40, 65, 640, 205},
	{"puffin", "Atlantic puffin", "Fratercula arctica", "Digs its burrow in the turf of the east slope, where nobody may walk from April to August.", 28, 56, 980, 14},
	{"kittiwake", "Black-legged kittiwake", "Rissa tridactyla",
		"Glues its nest of mud and weed to the wall of the Sawcut and calls its own name all day.", 39, 105, 410, 212},
	{"fulmar", "Northern fulmar", "Fulmarus glacialis", "Glides along the cliff without a beat. Visitors who come too close learn how far it spits.", 47, 107, 230, 190},
	{"shag", "European shag", "Gulosus aristotelis", "Nests low, in the spray. In March the crest stands up and the throat shows yellow.", 73, 100, 88, 150},
	{"eider", "Common eider", "Somateria mollissima", "Sits so tight on her down that the warden steps around her on the landing steps.", 60, 98, 37, 90},
	{"tern", "Arctic tern", "Sterna paradisaea", "Comes from the other end of the world and defends the shingle with its bill.", 35, 80, 152, 350},
	{"storm-petrel", "European storm petrel", "Hydrobates pelagicus",
		"Lives in the old wall and comes out after midnight. It is heard before it is seen.", 16, 38, 61, 265},
	{"oystercatcher", "Eurasian oystercatcher", "Haematopus ostralegus",
		"Four pairs on the skerries, each of them convinced of owning all of it.", 43, 83, 4, 2},
	{"turnstone", "Ruddy turnstone", "Arenaria interpres", "Winters on the weed below the landing and turns over what the tide brings.", 23, 54, 0, 30},
}

var months = []struct{ slug, entry string }{
	{"2026-01", "Gale from the north-west for nine days. The boat came once. The mast of the weather station is bent and still reads true."},
	{"2026-02", "First gannets on the 11th, forty of them, standing about as if they had never left. Sawcut ladder repaired."},
	{"2026-03", "Shags are sitting. Counted the ledges in flat calm on the 22nd and again on the 23rd: eleven birds apart."},
	{"2026-04", "East slope closed. Puffins cleaned out their burrows in one afternoon and threw the turf at my boots."},
	{"2026-05", "Two hundred and six visitors, one lost hat, one seasick dog. Terns back on the shingle on the 9th."},
	{"2026-06", "Guillemots fledging at dusk. The counters from the mainland stayed four nights and ate all the cheese."},
}

// files gives every file of the demo by its path; those that end in .sh are executable.
func files() map[string][]byte {
	out := map[string][]byte{
		"site/index.html": page(0, "Gannet Rock bird observatory", indexBody()),
		"site/visit.html": page(0, "Visiting the rock", visitBody()),
		"site/404.html": page(0, "Not on this rock",
			"<p>There is nothing here. Try the <a href=\"index.html\">landing steps</a>.</p>\n"),
		"site/robots.txt":                  []byte("User-agent: *\nAllow: /\n"),
		"site/css/rock.css":                []byte(styles),
		"site/css/print.css":               []byte("nav, footer { display: none }\nbody { color: black; background: white }\n"),
		"site/js/tide.js":                  []byte(script),
		"site/species/index.html":          page(1, "Birds of the rock", speciesIndex()),
		"site/log/index.html":              page(1, "The warden's log", logIndex()),
		"site/downloads/visitor-guide.pdf": guide(),
		"site/cgi/next-tide.sh":            []byte(nextTide),
		"plates/proof-gannet.svg":          plate(birds[0], true),
		"plates/proof-puffin.svg":          plate(birds[3], true),
	}
	for _, b := range birds {
		out["site/species/"+b.slug+".html"] = page(1, b.name, speciesBody(b))
		out["plates/"+b.slug+".svg"] = plate(b, false)
	}
	for _, m := range months {
		out["site/log/"+m.slug+".html"] = page(1, "Log, "+m.slug, "<p>"+html.EscapeString(m.entry)+"</p>\n")
	}
	for month := time.January; month <= time.December; month++ {
		csv, table := tides(month)
		name := fmt.Sprintf("site/tides/2026-%02d", month)
		out[name+".csv"], out[name+".json"] = csv, table
	}
	return out
}

// page frames a body. Depth is how many folders lie between the page and the top.
func page(depth int, title, body string) []byte {
	up := strings.Repeat("../", depth)
	return fmt.Appendf(nil, `<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<title>%s</title>
<link rel="stylesheet" href="%scss/rock.css">
<link rel="stylesheet" href="%scss/print.css" media="print">
<script src="%sjs/tide.js" defer></script>
</head>
<body>
<nav><a href="%sindex.html">Rock</a> <a href="%sspecies/index.html">Birds</a> <a href="%slog/index.html">Log</a> <a href="%svisit.html">Visit</a></nav>
<h1>%s</h1>
%s<footer>Gannet Rock bird observatory. The rock, the birds' numbers and the warden are made up.</footer>
</body>
</html>
`, html.EscapeString(title), up, up, up, up, up, up, up, html.EscapeString(title), body)
}

func indexBody() string {
	return `<p>Eleven hectares of stone, one light, one warden, and nine thousand pairs of seabirds.</p>
<img src="img/plates/gannet.svg" alt="Plate: northern gannet" width="480">
<p id="tide">The next high water is in the <a href="tides/2026-05.csv">tide table</a>.</p>
<p><a href="downloads/visitor-guide.pdf">Visitor guide (PDF)</a></p>
`
}

func visitBody() string {
	return `<p>The boat lands two hours either side of high water, wind permitting. Look the hour up in the tide tables:</p>
<ul>
` + strings.Join(tideLinks(), "") + `</ul>
<p>Keep to the path. The east slope is closed from April to August.</p>
`
}

func tideLinks() (out []string) {
	for month := time.January; month <= time.December; month++ {
		name := fmt.Sprintf("tides/2026-%02d", month)
		out = append(out, fmt.Sprintf("<li>%s: <a href=\"%s.csv\">CSV</a>, <a href=\"%s.json\">JSON</a></li>\n", month,
			name, name))
	}
	return out
}

func speciesIndex() string {
	var b strings.Builder
	b.WriteString("<table>\n<tr><th>Bird</th><th>Pairs in 2026</th></tr>\n")
	for _, s := range birds {
		fmt.Fprintf(&b, "<tr><td><a href=\"%s.html\">%s</a></td><td>%d</td></tr>\n", s.slug, s.name, s.pairs)
	}
	b.WriteString("</table>\n")
	return b.String()
}

func speciesBody(b bird) string {
	return fmt.Sprintf(`<p><em>%s</em>. Length %d cm, wingspan %d cm. %s.</p>
<p>%s</p>
<img src="../img/plates/%s.svg" alt="Plate: %s" width="480">
`, b.latin, b.length, b.span, pairs(b.pairs), html.EscapeString(b.about), b.slug, b.name)
}

func pairs(n int) string {
	if n == 0 {
		return "A winter guest"
	}
	return fmt.Sprintf("%d pairs in 2026", n)
}

func logIndex() string {
	var b strings.Builder
	b.WriteString("<ul>\n")
	for _, m := range months {
		fmt.Fprintf(&b, "<li><a href=\"%s.html\">%s</a></li>\n", m.slug, m.slug)
	}
	b.WriteString("</ul>\n")
	return b.String()
}

// plate draws a bird from its measures. A proof has the printer's frame around it.
func plate(b bird, proof bool) []byte {
	var s strings.Builder
	fmt.Fprintf(&s, "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 480 320\">\n<rect width=\"480\" height=\"320\" fill=\"hsl(%d 30%% 94%%)\"/>\n", b.hue)
	body, wing := float64(b.length)*1.6, float64(b.span)*1.1
	fmt.Fprintf(&s, "<ellipse cx=\"240\" cy=\"180\" rx=\"%.1f\" ry=\"%.1f\" fill=\"hsl(%d 40%% 40%%)\"/>\n", body/2+20,
		body/6+12, b.hue)
	for feather := range 9 {
		angle := math.Pi * (0.15 + 0.7*float64(feather)/8)
		x, y := 240+wing*math.Cos(angle), 180-wing*math.Sin(angle)*0.7
		fmt.Fprintf(&s, "<path d=\"M240 180 Q%.1f %.1f %.1f %.1f\" stroke=\"hsl(%d 45%% %d%%)\" stroke-width=\"6\" fill=\"none\"/>\n", (240+x)/2, y-10, x, y, b.hue, 28+feather*4)
	}
	fmt.Fprintf(&s, "<circle cx=\"%.1f\" cy=\"160\" r=\"16\" fill=\"hsl(%d 40%% 35%%)\"/>\n", 240+body/2+18, b.hue)
	fmt.Fprintf(&s, "<text x=\"24\" y=\"300\" font-family=\"serif\" font-size=\"20\">%s, <tspan font-style=\"italic\">%s</tspan></text>\n", b.name, b.latin)
	if proof {
		s.WriteString("<rect x=\"4\" y=\"4\" width=\"472\" height=\"312\" fill=\"none\" stroke=\"red\"/>\n<text x=\"380\" y=\"24\" fill=\"red\">PROOF</text>\n")
	}
	s.WriteString("</svg>\n")
	return []byte(s.String())
}

// tides gives a month of made-up high waters: two a day, 12 h 25 min apart, with spring and neap heights.
func tides(month time.Month) (csv, table []byte) {
	type water struct {
		Time   string  `json:"time"`
		Height float64 `json:"height_m"`
	}
	var (
		list []water
		out  bytes.Buffer
	)
	out.WriteString("time,height_m\n")
	first := time.Date(2026, time.January, 1, 4, 10, 0, 0, time.UTC)
	for n := 0; ; n++ {
		at := first.Add(time.Duration(n) * (12*time.Hour + 25*time.Minute))
		if at.Year() > 2026 || at.Month() > month {
			break
		}
		if at.Month() < month {
			continue
		}
		days := at.Sub(first).Hours() / 24
		height := math.Round((4.1+0.9*math.Cos(2*math.Pi*days/14.77))*100) / 100
		list = append(list, water{at.Format("2006-01-02T15:04Z"), height})
		fmt.Fprintf(&out, "%s,%.2f\n", at.Format("2006-01-02T15:04Z"), height)
	}
	table, err := json.Marshal(map[string]any{"place": "Gannet Rock landing", "high_water": list})
	if err != nil {
		panic(err) // only texts and numbers
	}
	return out.Bytes(), append(table, '\n')
}

// guide is a page of PDF (ISO 32000-1), with nothing in it that depends on the day.
func guide() []byte {
	text := "BT /F1 24 Tf 60 760 Td (Gannet Rock: visitor guide) Tj /F1 12 Tf 0 -40 Td (Land two hours either side of high water.) Tj " +
		"0 -18 Td (Keep to the path, and your hat on your head.) Tj 0 -18 Td (The east slope is closed from April to August.) Tj ET"
	objects := []string{
		"<< /Type /Catalog /Pages 2 0 R >>",
		"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(text), text),
		"<< /Type /Font /Subtype /Type1 /BaseFont /Times-Roman >>",
	}
	var out bytes.Buffer
	out.WriteString("%PDF-1.4\n")
	offsets := make([]int, len(objects))
	for i, object := range objects {
		offsets[i] = out.Len()
		fmt.Fprintf(&out, "%d 0 obj\n%s\nendobj\n", i+1, object)
	}
	xref := out.Len()
	fmt.Fprintf(&out, "xref\n0 %d\n0000000000 65535 f \n", len(objects)+1)
	for _, offset := range offsets {
		fmt.Fprintf(&out, "%010d 00000 n \n", offset)
	}
	fmt.Fprintf(&out, "trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, xref)
	return out.Bytes()
}

const styles = `body { font: 18px/1.5 Georgia, serif; max-width: 44rem; margin: 2rem auto; color: #1d2a33; background: #f6f4ee }
nav a { margin-right: 1rem; color: #24566b }
h1 { font-weight: normal; border-bottom: 3px solid #d9a441 }
table { border-collapse: collapse } td, th { padding: .2rem 1rem .2rem 0; text-align: left }
img { display: block; margin: 1rem 0 }
footer { margin-top: 3rem; font-size: 80%; color: #6b7a82 }
`

const script = `// Shows the next high water on the front page.
const place = document.getElementById("tide");
if (place) {
  const month = new Date().toISOString().slice(0, 7);
  fetch("tides/" + month + ".json").then(r => r.json()).then(table => {
    const next = table.high_water.find(w => new Date(w.time) > new Date());
    if (next) place.textContent = "Next high water: " + next.time + ", " + next.height_m + " m";
  });
}
`

const nextTide = `#!/bin/sh
# Prints the next high water of this month as plain text.
table="../tides/$(date -u +%Y-%m).csv"
now=$(date -u +%Y-%m-%dT%H:%MZ)
printf 'Content-Type: text/plain\r\n\r\n'
awk -F, -v now="$now" 'NR > 1 && $1 > now { print $1, $2 " m"; exit }' "$table"
`
