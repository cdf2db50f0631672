package paper

import (
	"fmt"
	"image/color"
	"io"
	"strings"

	"golang.org/x/text/encoding/charmap"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Sheet is a drawing on paper. Lengths are points (1/72 inch); Y counts from
// the top.
type Sheet struct {
	Width, Height float64
	Grid          []Line // below all the rest
	Boxes         []Box
	Labels        []Label
	Lines         []Line
	Dots          []Dot
	Title         string
}

// Label is a text in its box, whose upper left corner is at X and Y.
type Label struct {
	X, Y, W, H float64
	Text       string
	Size       float64
}

// Line goes from one point to another.
type Line struct {
	X1, Y1, X2, Y2, Width float64
	Dashed                bool
}

// Box is a rectangle whose upper left corner is at X and Y. Ink is how dark it
// is, from 0 for white to 1 for black; it has an edge.
type Box struct{ X, Y, W, H, Ink float64 }

// Dot is a filled circle.
type Dot struct{ X, Y, R float64 }

// Letters are as wide as this share of their size, and lines as high as that.
const (
	advance = 0.6
	leading = 1.25
)

func (s *Sheet) label(x, y, size float64, text string) {
	text = latin(text)
	s.Labels = append(s.Labels, Label{x, y, float64(len([]rune(text))) * size * advance, size * leading, text, size})
}

func (s *Sheet) line(x1, y1, x2, y2, width float64, dashed bool) {
	s.Lines = append(s.Lines, Line{x1, y1, x2, y2, width, dashed})
}

// latin writes a text with the letters that every reader of PDF shows (Windows
// code page 1252, PDF 1.7, annex D), and other signs in words.
func latin(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '…':
			return '·'
		case r == '–' || r == '—':
			return '-'
		case r < ' ' || r > 0xff:
			return '?'
		}
		return r
	}, text)
}

// Formats are the endings of files that a sheet can be written as.
var Formats = []string{"svg", "pdf"}

// Write writes the sheet in a format.
func (s Sheet) Write(to io.Writer, format string) error {
	w, h := vg.Points(s.Width), vg.Points(s.Height)
	var canvas interface {
		vg.Canvas
		io.WriterTo
	}
	encode := func(text string) string { return text }
	switch format {
	case "svg":
		canvas = vgsvg.New(w, h)
	case "pdf":
		pdf := vgpdf.New(w, h)
		pdf.EmbedFonts(true)
		canvas = pdf
		// The embedded letters are those of code page 1252, a byte each.
		encode = func(text string) string {
			bytes, err := charmap.Windows1252.NewEncoder().String(text)
			if err != nil {
				return text
			}
			return bytes
		}
	default:
		return fmt.Errorf("drawing: %q is no format; those are %s", format, strings.Join(Formats, ", "))
	}
	s.draw(canvas, encode)
	if _, err := canvas.WriteTo(to); err != nil {
		return fmt.Errorf("writing the drawing: %w", err)
	}
	return nil
}

func (s Sheet) draw(canvas vg.Canvas, encode func(string) string) {
	at := func(x, y float64) vg.Point { return vg.Point{X: vg.Points(x), Y: vg.Points(s.Height - y)} }
	stroke(canvas, at, s.Grid)
	for _, b := range s.Boxes {
		var p vg.Path
		p.Move(at(b.X, b.Y))
		p.Line(at(b.X+b.W, b.Y))
		p.Line(at(b.X+b.W, b.Y+b.H))
		p.Line(at(b.X, b.Y+b.H))
		p.Close()
		canvas.SetColor(color.Gray{uint8(255 * (1 - b.Ink))})
		canvas.Fill(p)
		canvas.SetColor(color.Black)
		canvas.SetLineWidth(vg.Points(0.4))
		canvas.SetLineDash(nil, 0)
		canvas.Stroke(p)
	}
	canvas.SetColor(color.Black)
	stroke(canvas, at, s.Lines)
	for _, d := range s.Dots {
		var p vg.Path
		p.Move(at(d.X+d.R, d.Y))
		p.Arc(at(d.X, d.Y), vg.Points(d.R), 0, 6.2832)
		p.Close()
		canvas.Fill(p)
	}
	fonts := font.NewCache(liberation.Collection())
	mono := font.Font{Typeface: "Liberation", Variant: "Mono"}
	for _, l := range s.Labels {
		// The text stands on a line a quarter of its size above its box's end.
		canvas.FillString(fonts.Lookup(mono, vg.Points(l.Size)), at(l.X, l.Y+l.Size), encode(l.Text))
	}
}

func stroke(canvas vg.Canvas, at func(x, y float64) vg.Point, lines []Line) {
	for _, l := range lines {
		canvas.SetLineWidth(vg.Points(l.Width))
		var dashes []vg.Length
		if l.Dashed {
			dashes = []vg.Length{vg.Points(2), vg.Points(2)}
		}
		canvas.SetLineDash(dashes, 0)
		var p vg.Path
		p.Move(at(l.X1, l.Y1))
		p.Line(at(l.X2, l.Y2))
		canvas.Stroke(p)
	}
}
