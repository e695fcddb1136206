package compare

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"hemzo/internal/engine"
)

// ChartTypes are the extensions of files that Draw can draw.
func ChartTypes() []string { return []string{".svg", ".png"} }

// The chart's size, and its colours: amber for the way to use, grey for the others.
const (
	chartWidth, chartHeight = 1280, 800 // in pixels
	dotsPerInch             = 96
)

var (
	used  = color.RGBA{0xa9, 0x66, 0x00, 0xff}
	other = color.RGBA{0xb9, 0xb4, 0xa9, 0xff}
	ink   = color.RGBA{0x33, 0x33, 0x33, 0xff}
)

// Draw draws the result as a chart, in the format of an extension: for each kind of work a
// panel with a bar for each way, as long as the median, and the middle half of the rounds.
func (r *Result) Draw(to io.Writer, ext, title string) error {
	size := func(pixels int) vg.Length { return vg.Length(pixels) * vg.Inch / dotsPerInch }
	var canvas interface {
		vg.CanvasSizer
		io.WriterTo
	}
	switch ext {
	case ".svg":
		canvas = vgsvg.New(size(chartWidth), size(chartHeight))
	case ".png":
		canvas = vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(size(chartWidth), size(chartHeight)),
			vgimg.UseDPI(dotsPerInch))}
	default:
		return fmt.Errorf("there is no chart in a file %s", ext)
	}
	c := draw.New(canvas)
	c.SetColor(color.White)
	c.Fill(c.Rectangle.Path())
	head := draw.TextStyle{Color: ink, Font: plot.DefaultFont, Handler: plot.DefaultTextHandler, YAlign: draw.YTop}
	sans(&head, 16)
	c.FillText(head, vg.Point{X: c.Min.X + vg.Points(14), Y: c.Max.Y - vg.Points(12)}, title)
	c = draw.Crop(c, 0, 0, 0, -vg.Points(40))
	columns := 1
	if len(r.Works) > 1 {
		columns = 2
	}
	tiles := draw.Tiles{Rows: (len(r.Works) + columns - 1) / columns, Cols: columns, PadX: vg.Points(18),
		PadY: vg.Points(14), PadLeft: vg.Points(14), PadRight: vg.Points(18), PadBottom: vg.Points(10)}
	for i, work := range r.Works {
		p, err := r.panel(work)
		if err != nil {
			return err
		}
		p.Draw(tiles.At(c, i%columns, i/columns))
	}
	_, err := canvas.WriteTo(to)
	return err
}

// panel draws the ways after one kind of work, each bar with its figure.
func (r *Result) panel(work Work) (*plot.Plot, error) {
	p := plot.New()
	p.Title.Text = work.Name
	for style, points := range map[*draw.TextStyle]float64{&p.Title.TextStyle: 13, &p.X.Label.TextStyle: 10,
		&p.X.Tick.Label: 10, &p.Y.Tick.Label: 11} {
		sans(style, points)
	}
	p.X.Label.Text, p.X.Min = "milliseconds", 0
	p.BackgroundColor = color.Transparent
	names := make([]string, len(r.Ways))
	longest := 0.0
	for i, w := range r.Ways {
		at := len(r.Ways) - 1 - i // the first way is at the top
		names[at] = w.Words()
		c := w.On(work.Name)
		if err := addBar(p, c, float64(at), w.Name == r.Use); err != nil {
			return nil, err
		}
		if c.Unable == "" {
			longest = max(longest, milliseconds(max(c.Median, c.High)))
		}
	}
	p.NominalY(names...)
	p.X.Tick.Marker = plot.TickerFunc(ticks)
	p.X.Max, p.Y.Min, p.Y.Max = longest*1.25, -0.6, float64(len(names))-0.4
	return p, nil
}

// ticks are at multiples of 1, 2 or 5, up to six of them.
func ticks(_, high float64) (all []plot.Tick) {
	step := math.Pow(10, math.Floor(math.Log10(high/6)))
	for _, by := range []float64{2, 2.5, 2} {
		if high/step > 6 {
			step *= by
		}
	}
	for i := 0; float64(i)*step <= high; i++ {
		all = append(all, plot.Tick{Value: float64(i) * step, Label: strconv.FormatFloat(float64(i)*step, 'g', 4, 64)})
	}
	return all
}

// sans gives a text the chart's typeface and a size.
func sans(style *draw.TextStyle, points float64) {
	style.Font.Variant, style.Font.Size, style.Color = "Sans", vg.Points(points), ink
}

// addBar adds one bar with the spread and the figure.
func addBar(p *plot.Plot, c Cost, at float64, use bool) error {
	text := "cannot"
	if c.Unable == "" {
		bar, err := plotter.NewBarChart(plotter.Values{milliseconds(c.Median)}, vg.Points(16))
		if err != nil {
			return fmt.Errorf("drawing a bar: %w", err)
		}
		bar.Horizontal, bar.XMin, bar.LineStyle.Width, bar.Color = true, at, 0, other
		if use {
			bar.Color = used
		}
		spread, err := plotter.NewXErrorBars(spreads{c, at})
		if err != nil {
			return fmt.Errorf("drawing a spread: %w", err)
		}
		spread.LineStyle.Color, spread.LineStyle.Width, spread.CapWidth = ink, vg.Points(1), vg.Points(7)
		p.Add(bar, spread)
		text = figure(c.Median)
	}
	label, err := plotter.NewLabels(plotter.XYLabels{
		XYs: plotter.XYs{{X: milliseconds(max(c.Median, c.High)), Y: at}}, Labels: []string{text}})
	if err != nil {
		return fmt.Errorf("drawing a figure: %w", err)
	}
	sans(&label.TextStyle[0], 11)
	label.TextStyle[0].YAlign = draw.YCenter
	if use {
		label.TextStyle[0].Color = used
	}
	label.Offset = vg.Point{X: vg.Points(6), Y: vg.Points(1.5)} // the middle of what has no descender
	p.Add(label)
	return nil
}

// spreads is the spread of one bar, as its drawing asks for it.
type spreads struct {
	Cost
	at float64
}

func (s spreads) Len() int                  { return 1 }
func (s spreads) XY(int) (float64, float64) { return milliseconds(s.Median), s.at }
func (s spreads) XError(int) (float64, float64) {
	return milliseconds(s.Low - s.Median), milliseconds(s.High - s.Median)
}

func milliseconds(d engine.Milliseconds) float64 { return float64(d) / 1e6 }

// figure writes milliseconds with two digits or more.
func figure(d engine.Milliseconds) string {
	switch v := milliseconds(d); {
	case v < 1:
		return fmt.Sprintf("%.2f ms", v)
	case v < 10:
		return fmt.Sprintf("%.1f ms", v)
	default:
		return fmt.Sprintf("%d ms", int(v))
	}
}
