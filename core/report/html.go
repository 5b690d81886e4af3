package report

import (
	"fmt"
	"html"
	"html/template"
	"io"
	"strings"
)

// WriteHTML writes the document as one page that needs no other file and runs no script.
func (d Document) WriteHTML(w io.Writer) error { return page.Execute(w, d) }

// svg draws a chart as a picture within the page (SVG 1.1).
type svg struct{ b strings.Builder }

func (s *svg) line(x1, y1, x2, y2, width float64, c colour) {
	fmt.Fprintf(&s.b, `<line x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f" stroke-width="%.1f" class="s-%s"/>`, x1, y1, x2, y2, width, c)
}

func (s *svg) path(points [][2]float64, width float64, c colour) {
	fmt.Fprintf(&s.b, `<polyline fill="none" stroke-width="%.1f" stroke-linejoin="round" class="s-%s" points="`, width, c)
	for _, p := range points {
		fmt.Fprintf(&s.b, "%.1f,%.1f ", p[0], p[1])
	}
	s.b.WriteString(`"/>`)
}

func (s *svg) box(x, y, w, h float64, c colour) {
	fmt.Fprintf(&s.b, `<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" class="f-%s"/>`, x, y, w, h, c)
}

func (s *svg) text(x, y, size float64, text string, align byte, c colour) {
	anchor := map[byte]string{'l': "start", 'm': "middle", 'r': "end"}[align]
	fmt.Fprintf(&s.b, `<text x="%.1f" y="%.1f" font-size="%.1f" text-anchor="%s" class="f-%s">%s</text>`, x, y, size, anchor, c,
		html.EscapeString(text))
}

var page = template.Must(template.New("report").Funcs(template.FuncMap{
	"chart": func(c Chart) template.HTML {
		s := &svg{}
		fmt.Fprintf(&s.b, `<svg viewBox="0 0 %.0f %.0f" role="img" aria-label="%s">`, chartWidth, chartHeight, html.EscapeString(c.About))
		c.draw(s)
		s.b.WriteString("</svg>")
		return template.HTML(s.b.String()) // what is of others in it is escaped above
	},
	"tone":    func(t Tone) string { return string(tones[t]) },
	"colours": func() []colour { return []colour{ink, faint, rule, moss, gorse, rowan, deep} },
	"right":   func(t Table, i int) bool { return i < len(t.Right) && t.Right[i] },
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><meta name="color-scheme" content="light dark">
<title>{{.Title}}</title>
<style>
:root { --page: #fbfaf8; --ink: #2b2621; --faint: #6d645c; --rule: #ddd8d2; --moss: #4c6b31; --gorse: #c7921a; --rowan: #b3331d; --heather: #6a498c; }
@media (prefers-color-scheme: dark) { :root { --page: #1d1a17; --ink: #ece6df; --faint: #a89e94; --rule: #3b3530; --moss: #9abf74; --gorse: #dcae45; --rowan: #f0826c; --heather: #b99ad8; } }
body { background: var(--page); color: var(--ink); font: 15px/1.45 "Source Sans 3", "Segoe UI", system-ui, sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1.5rem; }
h1 { font-size: 1.7rem; margin: 0; } h2 { font-size: 1.15rem; margin: 2rem 0 .5rem; } h3 { font-size: .95rem; margin: 1rem 0 .25rem; font-weight: 600; }
.faint, th { color: var(--faint); } p { max-width: 46rem; margin: .5rem 0; }
ul { display: flex; flex-wrap: wrap; gap: .5rem 2.5rem; list-style: none; padding: 0; margin: 1rem 0; } li b { display: block; font-size: 1.9rem; line-height: 1.1; font-variant-numeric: tabular-nums; }
table { border-collapse: collapse; width: 100%; font-variant-numeric: tabular-nums; } th { text-align: left; font-weight: 600; } th, td { border-bottom: 1px solid var(--rule); padding: .35rem .8rem .35rem 0; vertical-align: top; } .r { text-align: right; }
svg { width: 100%; max-width: 46rem; display: block; } svg text { font-family: inherit; }
{{range $c := colours}}.s-{{$c}} { stroke: var(--{{$c}}); } .f-{{$c}} { fill: var(--{{$c}}); } .t-{{$c}} { color: var(--{{$c}}); }
{{end}}@media print { body { margin: 0; } h2 { break-after: avoid; } tr, svg { break-inside: avoid; } }
</style></head><body>
<h1>{{.Title}}</h1><p class="faint">{{.Subtitle}}</p>
{{range .Parts}}<section>{{with .Heading}}<h2>{{.}}</h2>{{end}}
{{range .Words}}<p>{{.}}</p>{{end}}
{{with .Figures}}<ul>{{range .}}<li><b{{if .Tone}} class="t-{{tone .Tone}}"{{end}}>{{.Value}}</b> <span class="faint">{{.About}}</span></li>{{end}}</ul>{{end}}
{{range .Charts}}<h3>{{.Title}}</h3>{{chart .}}{{end}}
{{with .Table}}{{$t := .}}{{if .Rows}}<table><thead><tr>{{range $i, $h := .Heads}}<th{{if right $t $i}} class="r"{{end}}>{{$h}}</th>{{end}}</tr></thead><tbody>
{{range .Rows}}<tr>{{range $i, $c := .}}<td{{if right $t $i}} class="r"{{end}}>{{$c}}</td>{{end}}</tr>
{{end}}</tbody></table>{{if .More}}<p class="faint">and {{.More}} more</p>{{end}}{{else}}<p class="faint">{{.None}}</p>{{end}}{{end}}</section>
{{end}}<p class="faint">Made by {{.Maker}}, {{.Made.Format "2 January 2006, 15:04 MST"}}.</p>
</body></html>
`))
