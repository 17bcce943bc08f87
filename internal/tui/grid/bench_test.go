package grid

import (
	"image/color"
	"testing"

	uv "github.com/charmbracelet/ultraviolet"
)

// What a frame of 160 by 40 cells costs that is written and turned into a string, with our cells and with those of the library below Bubble Tea:
//
//	go test -bench Frame ./internal/tui/grid
//
// It is the reason for which the grid is our own.
const benchW, benchH = 160, 40

func BenchmarkFrameOfGrid(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		g := New(benchW, benchH, Style{Fg: 0xd8d2c4, Bg: 0x0d1020})
		for y := range benchH {
			for x := 0; x < benchW-8; x += 8 {
				g.Text(x, y, "wardens ", Style{Fg: Color(0x404040 + (x/8*5+y)%7*0x101010), Bg: 0x0d1020})
			}
		}
		if g.String() == "" {
			b.Fatal("an empty frame")
		}
	}
}

func BenchmarkFrameOfUltraviolet(b *testing.B) {
	b.ReportAllocs()
	shades := make([]uv.Style, 7)
	for i := range shades {
		v := uint8(0x40 + i*0x10)
		shades[i] = uv.Style{Fg: color.RGBA{v, v, v, 255}, Bg: color.RGBA{0x0d, 0x10, 0x20, 255}}
	}
	word := []rune("wardens ")
	for b.Loop() {
		buf := uv.NewBuffer(benchW, benchH)
		buf.Fill(&uv.Cell{Content: " ", Width: 1, Style: shades[6]})
		for y := range benchH {
			for x := 0; x < benchW-8; x += 8 {
				for i, r := range word {
					buf.SetCell(x+i, y, &uv.Cell{Content: string(r), Width: 1, Style: shades[(x/8*5+y)%7]})
				}
			}
		}
		if buf.Render() == "" {
			b.Fatal("an empty frame")
		}
	}
}
