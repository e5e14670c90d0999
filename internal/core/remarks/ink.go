package remarks

import (
	"cmp"
	"math"
	"slices"

	"tessellant/internal/core/likeness"
	"tessellant/internal/core/uitree"
)

const (
	contrastText  = 4.5   // WCAG 2.2, 1.4.3
	contrastLarge = 3.0   // of large text
	largeDP       = 17.0  // from the top of a capital letter to the bottom of a line of large text: of 18 points, which are 24 dp
	visible       = 1.15  // a contrast below this is no text: nothing is drawn there yet
	leastInk      = 0.003 // of the pixels that are not ground: so many of those that stand out most are ink
	mostLooked    = 4_000_000
)

// inked is what of a text the picture shows.
type inked struct {
	contrast           float64
	high               float64 // dp, of the highest line: from the top of its letters to their bottom
	cutBelow, cutAfter bool    // it runs into its own edge
}

// ink looks at the picture of an element; false: nothing is drawn there, or there is no picture.
func (s Screen) ink(e *uitree.Element) (out inked, ok bool) {
	if s.Picture == nil {
		return out, false
	}
	pix, stride, w, h := likeness.Pixels(s.Picture)
	x0, y0, x1, y1 := max(e.Bounds.Left, 0), max(e.Bounds.Top, 0), min(e.Bounds.Right, w), min(e.Bounds.Bottom, h)
	if x0 >= x1 || y0 >= y1 || (x1-x0)*(y1-y0) > mostLooked {
		return out, false
	}
	// Colours in 32 steps each of red, green and blue. The most common one is the ground.
	count := make([]int32, 1<<15)
	at := func(x, y int) int {
		p := pix[y*stride+4*x:]
		return int(p[0]>>3)<<10 | int(p[1]>>3)<<5 | int(p[2]>>3)
	}
	for y := y0; y < y1; y++ {
		for x := x0; x < x1; x++ {
			count[at(x, y)]++
		}
	}
	ground := 0
	for c, n := range count {
		if n > count[ground] {
			ground = c
		}
	}
	others := (x1-x0)*(y1-y0) - int(count[ground])
	// Ink is what stands out most. Few pixels of thin letters have their full colour: the others are smoothed.
	var colours []int
	for c, n := range count {
		if n > 0 && c != ground {
			colours = append(colours, c)
		}
	}
	slices.SortFunc(colours, func(a, b int) int { return cmp.Or(cmp.Compare(contrast(b, ground), contrast(a, ground)), a-b) })
	ink, enough := map[int]bool{}, 0
	for _, c := range colours {
		ink[c] = true
		if enough += int(count[c]); float64(enough) >= max(leastInk*float64(others), 4) {
			break
		}
	}
	// The steps are coarse: the contrast is that of the colours themselves, as they are on the mean.
	mean := func(of func(int) bool) (out [3]float64) {
		n := 0.0
		for y := y0; y < y1; y++ {
			for x := x0; x < x1; x++ {
				if of(at(x, y)) {
					n++
					for i := range out {
						out[i] += float64(pix[y*stride+4*x+i])
					}
				}
			}
		}
		for i := range out {
			out[i] /= max(n, 1)
		}
		return out
	}
	out.contrast = ratio(luminance(mean(func(c int) bool { return c == ground })), luminance(mean(func(c int) bool { return ink[c] })))
	if out.contrast < visible {
		return out, false
	}
	// Ink is what has at least half of that contrast.
	strong := make([]int8, len(count)) // 0: not looked at yet
	inky := func(x, y int) bool {
		c := at(x, y)
		if strong[c] == 0 {
			strong[c] = -1
			if contrast(c, ground) > 1+(out.contrast-1)/2 {
				strong[c] = 1
			}
		}
		return strong[c] > 0
	}
	run, most, last := 0, 0, 0
	for y := y0; y < y1; y++ {
		n := 0
		for x := x0; x < x1; x++ {
			if inky(x, y) {
				n++
			}
		}
		if run++; n == 0 {
			run = 0
		}
		most = max(most, run)
		last = n
	}
	out.high = s.dp(most)
	column := 0
	for y := y0; y < y1; y++ {
		if inky(x1-1, y) {
			column++
		}
	}
	// Where most of an edge is ink it is a line or a frame, no letters.
	out.cutBelow = last > 2 && last < (x1-x0)*3/4 && most < (y1-y0)
	out.cutAfter = column > max(2, (y1-y0)/12) && column < (y1-y0)*3/4
	return out, true
}

// contrast is that of two steps of colours.
func contrast(a, b int) float64 { return ratio(luminance(middle(a)), luminance(middle(b))) }

// middle is the colour in the middle of a step.
func middle(c int) (out [3]float64) {
	for i := range out {
		step := c >> (10 - 5*i) & 31
		out[i] = float64(step<<3 | step>>2)
	}
	return out
}

// ratio is the contrast ratio of WCAG 2.2: (L1 + 0.05) ÷ (L2 + 0.05).
func ratio(x, y float64) float64 { return (max(x, y) + 0.05) / (min(x, y) + 0.05) }

// luminance is the relative luminance of an sRGB colour, as WCAG 2.2 has it.
func luminance(c [3]float64) (out float64) {
	for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
		v := c[i] / 255
		if v <= 0.04045 {
			v /= 12.92
		} else {
			v = math.Pow((v+0.055)/1.055, 2.4)
		}
		out += weight * v
	}
	return out
}
