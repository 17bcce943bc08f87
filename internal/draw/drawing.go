// Package draw makes drawings of a field, fit for a report: shapes made from core data, written as SVG or PDF by one and
// the same code.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Drawing is a page of shapes. Lengths are points (1/72 inch); the origin is the upper left corner.
type Drawing struct {
	W, H   float64
	Page   color.RGBA
	Shapes []Shape
}

// Shape is one thing on a page: a box, a disc, a line or a text.
type Shape struct {
	Kind        Kind
	X, Y, W, H  float64 // a line goes from X, Y by W, H; a text begins at X on the line Y; a disc has its middle at X, Y
	Fill, Edge  color.RGBA
	Width       float64 // of the edge or the line; 0: none
	Dashed      bool
	Text        string
	Size        float64
	Bold, Right bool // Right: the text ends at X
	Label       string
}

// Kind is what a shape is.
type Kind string

// The kinds of shapes.
const (
	Box  Kind = "box"
	Disc Kind = "disc"
	Line Kind = "line"
	Text Kind = "text"
)

func (d *Drawing) add(s Shape) { d.Shapes = append(d.Shapes, s) }

// Write writes the drawing in the form that the file's name asks for.
func (d *Drawing) Write(w io.Writer, name string) error {
	var c interface {
		vg.Canvas
		io.WriterTo
	}
	switch ext := strings.ToLower(filepath.Ext(name)); ext {
	case ".svg":
		c = vgsvg.New(vg.Length(d.W), vg.Length(d.H))
	case ".pdf":
		c = vgpdf.New(vg.Length(d.W), vg.Length(d.H))
	default:
		return fmt.Errorf("%s: drawings are written as .svg or .pdf, and %q is neither", name, ext)
	}
	fonts := font.NewCache(liberation.Collection())
	c.SetColor(d.Page)
	c.Fill(rectangle(0, 0, d.W, d.H))
	for _, s := range d.Shapes {
		d.paint(c, fonts, s)
	}
	_, err := c.WriteTo(w)
	return err
}

func rectangle(x, y, w, h float64) vg.Path {
	var p vg.Path
	p.Move(vg.Point{X: vg.Length(x), Y: vg.Length(y)})
	p.Line(vg.Point{X: vg.Length(x + w), Y: vg.Length(y)})
	p.Line(vg.Point{X: vg.Length(x + w), Y: vg.Length(y + h)})
	p.Line(vg.Point{X: vg.Length(x), Y: vg.Length(y + h)})
	p.Close()
	return p
}

// paint draws a shape on a canvas whose origin is the lower left corner.
func (d *Drawing) paint(c vg.Canvas, fonts *font.Cache, s Shape) {
	up := func(y float64) float64 { return d.H - y }
	var p vg.Path
	switch s.Kind {
	case Box:
		p = rectangle(s.X, up(s.Y+s.H), s.W, s.H)
	case Disc:
		p.Move(vg.Point{X: vg.Length(s.X + s.W/2), Y: vg.Length(up(s.Y))})
		p.Arc(vg.Point{X: vg.Length(s.X), Y: vg.Length(up(s.Y))}, vg.Length(s.W/2), 0, 2*math.Pi)
		p.Close()
	case Line:
		p.Move(vg.Point{X: vg.Length(s.X), Y: vg.Length(up(s.Y))})
		p.Line(vg.Point{X: vg.Length(s.X + s.W), Y: vg.Length(up(s.Y + s.H))})
	case Text:
		face := textFace(fonts, s)
		x := vg.Length(s.X)
		if s.Right {
			x -= face.Width(s.Text)
		}
		c.SetColor(s.Fill)
		c.FillString(face, vg.Point{X: x, Y: vg.Length(up(s.Y))}, s.Text)
		return
	}
	if s.Fill.A > 0 && s.Kind != Line {
		c.SetColor(s.Fill)
		c.Fill(p)
	}
	if s.Width > 0 {
		c.SetColor(s.Edge)
		c.SetLineWidth(vg.Length(s.Width))
		dashes := []vg.Length(nil)
		if s.Dashed {
			dashes = []vg.Length{2, 2}
		}
		c.SetLineDash(dashes, 0)
		c.Stroke(p)
		c.SetLineDash(nil, 0)
	}
}

func textFace(fonts *font.Cache, s Shape) font.Face {
	f := font.Font{Typeface: "Liberation", Variant: "Sans"}
	if s.Bold {
		f.Weight = 2 // bold
	}
	return fonts.Lookup(f, vg.Length(s.Size))
}
