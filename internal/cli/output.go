package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"github.com/muesli/termenv"
	"golang.org/x/term"

	"hemzo/internal/engine"
	"hemzo/internal/fault"
)

// paint colours texts for one stream; without colour it returns them as they
// are.
type paint struct{ r *lipgloss.Renderer }

func (a *app) paintFor(terminal bool) paint {
	r := lipgloss.NewRenderer(os.Stdout)
	r.SetHasDarkBackground(true) // else the library asks the terminal, and waits for an answer
	switch {
	case !terminal || a.noColor || os.Getenv("TERM") == "dumb":
		r.SetColorProfile(termenv.Ascii)
	default:
		r.SetColorProfile(termenv.EnvColorProfile())
	}
	return paint{r}
}

// The palette: amber for what Hemzo made, green for what is ready, red for
// what is wrong or was removed, grey for what is beside the point. Each has the
// same contrast, 4.5 to 1, on black and on white (WCAG 2.1, section 1.4.3).
func (p paint) colour(c lipgloss.Color, s string) string {
	return p.r.NewStyle().Foreground(c).Render(s)
}
func (p paint) honey(s string) string {
	return p.colour("#a96600", s)
}
func (p paint) good(s string) string {
	return p.colour("#358456", s)
}
func (p paint) bad(s string) string {
	return p.colour("#d0443a", s)
}
func (p paint) dim(s string) string {
	return p.colour("#757575", s)
}
func (p paint) strong(s string) string { return p.r.NewStyle().Bold(true).Render(s) }

// say prints a line of the result.
func (a *app) say(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }

// note prints a line that is not the result; with --json, an object on a line.
func (a *app) note(format string, args ...any) {
	if a.quiet {
		return
	}
	text := fmt.Sprintf(format, args...)
	if a.json {
		a.jsonLine(map[string]string{"note": text})
		return
	}
	fmt.Fprintf(a.err, "hemzo: %s\n", text)
}

// jsonLine prints an object beside the result, on one line.
func (a *app) jsonLine(v any) {
	e := json.NewEncoder(a.err)
	e.SetEscapeHTML(false)
	_ = e.Encode(v)
}

// printJSON prints a value as JSON.
func (a *app) printJSON(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// errorReport is an error as --json shows it.
type errorReport struct {
	Error string         `json:"error"`
	Exit  int            `json:"exit"`
	Where fault.Position `json:"where,omitzero"`
	Said  string         `json:"said,omitempty"`
	Code  string         `json:"code,omitempty"`
	Lines []string       `json:"lines,omitempty"`
	Next  string         `json:"next,omitempty"`
}

// report prints an error: what went wrong and where, the material, and what
// to do next.
func (a *app) report(err error) {
	p := a.paintFor(a.errTerm)
	f := new(fault.Error)
	told := errors.As(err, &f)
	if a.json {
		a.jsonLine(errorReport{Error: err.Error(), Exit: int(fault.KindOf(err)), Where: f.Where, Said: f.Said,
			Code: f.Code, Lines: f.Lines, Next: f.Next})
		return
	}
	if !told {
		fmt.Fprintf(a.err, "%s %s\n", p.bad("hemzo:"), err)
		return
	}
	text := err.Error()
	if at := f.Where.String(); at != "" && strings.HasPrefix(text, at+": ") {
		text = p.strong(at+":") + strings.TrimPrefix(text, at+":")
	}
	fmt.Fprintf(a.err, "%s %s\n", p.bad("hemzo:"), text)
	for _, line := range f.Lines {
		fmt.Fprintf(a.err, "    %s\n", line)
	}
	if f.Next != "" {
		fmt.Fprintf(a.err, "  %s %s\n", p.dim("next:"), f.Next)
	}
}

// grid prints rows in aligned columns. Columns named in right are aligned to
// the right.
type grid struct {
	rows  [][]string
	right map[int]bool
	// Of what is too wide for a terminal the columns in drop go first, then all but
	// those in whole are shortened.
	drop  []int
	whole map[int]bool
}

func (g *grid) add(cells ...string) { g.rows = append(g.rows, cells) }

func (g *grid) lines(indent string) []string {
	widths := g.widths()
	var out []string
	for _, row := range g.rows {
		var b strings.Builder
		b.WriteString(indent)
		for i, cell := range row {
			if widths[i] == 0 {
				continue
			}
			gap := strings.Repeat(" ", widths[i]-lipgloss.Width(cell))
			if g.right[i] {
				b.WriteString(gap + cell)
			} else {
				b.WriteString(cell + gap)
			}
			b.WriteString("  ")
		}
		out = append(out, strings.TrimRight(b.String(), " "))
	}
	return out
}

func (a *app) print(g *grid, indent string) {
	if a.outTerm {
		if width, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && width > 0 {
			g.fit(width - len(indent))
		}
	}
	for _, line := range g.lines(indent) {
		a.say("%s", line)
	}
}

// least is how much of a cell is left when it is shortened.
const least = 6

// fit makes rows no wider than a terminal: a name cut off says more than a broken
// line.
func (g *grid) fit(width int) {
	for _, column := range g.drop {
		if g.over(width) > 0 {
			g.empty(column)
		}
	}
	for g.over(width) > 0 {
		widths := g.widths()
		widest := -1
		for i, w := range widths {
			if w > least && !g.whole[i] && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			return
		}
		g.shorten(widest, widths[widest]-1)
	}
}

// over is by how much rows are too wide.
func (g *grid) over(width int) int {
	total := -2
	for _, w := range g.widths() {
		if w > 0 {
			total += w + 2
		}
	}
	return total - width
}

// empty takes the content of a column away.
func (g *grid) empty(column int) {
	for _, row := range g.rows {
		if column < len(row) {
			row[column] = ""
		}
	}
}

func (g *grid) shorten(column, to int) {
	for _, row := range g.rows {
		if column < len(row) {
			row[column] = ansi.Truncate(row[column], to, "…")
		}
	}
}

// widths are the widths of the columns.
func (g *grid) widths() (widths []int) {
	for _, row := range g.rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], lipgloss.Width(cell))
		}
	}
	return widths
}

// span writes a duration in a fitting unit.
func span[D time.Duration | engine.Milliseconds](of D) string {
	d := time.Duration(of)
	switch {
	case d == 0:
		return "-"
	case d < time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d.Round(time.Minute) < time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d.Round(time.Hour) < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}

// ago writes how long ago something was.
func ago(t time.Time) string {
	d := time.Since(t)
	if d < 10*time.Second {
		return "just now"
	}
	if d < time.Minute {
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	}
	return span(d) + " ago"
}

// size writes a number of bytes in a fitting unit.
func size(n int64) string {
	switch {
	case n == 0:
		return "-" // nothing, or it is not known
	case n < 1<<10:
		return fmt.Sprintf("%d B", n)
	case n < 1<<20:
		return fmt.Sprintf("%.0f KB", float64(n)/(1<<10))
	case n < 10<<20:
		return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
	case n < 1<<30:
		return fmt.Sprintf("%d MB", n>>20)
	}
	return fmt.Sprintf("%.1f GB", float64(n)/(1<<30))
}

// count writes "1 step", "2 steps".
func count[N int | int64](n N, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if strings.HasSuffix(what, "y") {
		return fmt.Sprintf("%d %sies", n, strings.TrimSuffix(what, "y"))
	}
	return fmt.Sprintf("%d %ss", n, what)
}
