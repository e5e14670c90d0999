package likeness

import (
	"cmp"
	"errors"
	"fmt"
	"image"
	"slices"
)

// Moved is how a picture differs from its reference.
type Moved struct {
	Regions []image.Rectangle // where, in pixels: the largest first, so many at most
	Share   float64           // of the pixels that are looked at
}

// ErrOtherSize says that a picture can't be held against a reference: it is of another size.
var ErrOtherSize = errors.New("the picture has another size than its reference")

const (
	levels      = 24 // that each of red, green and blue may differ by without anybody seeing it
	cellDP      = 8  // regions are made of cells of so many dp
	maxRegions  = 40
	leastInCell = 2 // pixels that differ, for a cell to be part of a region
)

// Against holds a picture against a reference of the same size. Scale is the pixels for a dp. Masks are not looked at, nor is the system's status bar.
//
// A pixel is forgiven where its colour lies between those of the nine pixels around its place in the other picture, and the other way round: so it is with
// edges that were smoothed otherwise (anti-aliasing), or lie one pixel beside.
func Against(reference, now image.Image, scale float64, masks []image.Rectangle) (m Moved, err error) {
	a, strideA, w, h := Pixels(reference)
	b, strideB, w2, h2 := Pixels(now)
	if w != w2 || h != h2 {
		return m, fmt.Errorf("%w: %d × %d pixels, not %d × %d", ErrOtherSize, w2, h2, w, h)
	}
	top := min(int(statusDP*max(scale, 0.1)), h/8)
	hidden := make([]bool, w*h)
	seen := w * h
	hide := func(r image.Rectangle) {
		r = r.Intersect(image.Rect(0, 0, w, h))
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				if !hidden[y*w+x] {
					hidden[y*w+x] = true
					seen--
				}
			}
		}
	}
	hide(image.Rect(0, 0, w, top))
	for _, r := range masks {
		hide(r)
	}
	cell := max(int(cellDP*scale), 4)
	cw, ch := (w+cell-1)/cell, (h+cell-1)/cell
	cells := make([]int, cw*ch)
	differ := 0
	for y := range h {
		for x := range w {
			if hidden[y*w+x] {
				continue
			}
			if !near(a[y*strideA+4*x:], b[y*strideB+4*x:]) && (!between(a[y*strideA+4*x:], b, strideB, x, y, w, h) || !between(b[y*strideB+4*x:], a, strideA, x, y, w, h)) {
				differ++
				cells[y/cell*cw+x/cell]++
			}
		}
	}
	if seen > 0 {
		m.Share = float64(differ) / float64(seen)
	}
	for _, r := range clusters(cells, cw, ch) {
		m.Regions = append(m.Regions, image.Rect(r.Min.X*cell, r.Min.Y*cell, min(r.Max.X*cell, w), min(r.Max.Y*cell, h)))
	}
	return m, nil
}

func near(p, q []byte) bool {
	for i := range 3 {
		if d := int(p[i]) - int(q[i]); d > levels || d < -levels {
			return false
		}
	}
	return true
}

// between says whether a colour lies between those around a place of the other picture.
func between(p, other []byte, stride, x, y, w, h int) bool {
	for i := range 3 {
		low, high := byte(255), byte(0)
		for v := max(y-1, 0); v <= min(y+1, h-1); v++ {
			for u := max(x-1, 0); u <= min(x+1, w-1); u++ {
				c := other[v*stride+4*u+i]
				low, high = min(low, c), max(high, c)
			}
		}
		if int(p[i]) < int(low)-levels || int(p[i]) > int(high)+levels {
			return false
		}
	}
	return true
}

// clusters puts cells together that touch, the largest first.
func clusters(cells []int, w, h int) (out []image.Rectangle) {
	done := make([]bool, len(cells))
	for start := range cells {
		if done[start] || cells[start] < leastInCell {
			continue
		}
		box := image.Rectangle{}
		todo := []int{start}
		done[start] = true
		for len(todo) > 0 {
			i := todo[len(todo)-1]
			todo = todo[:len(todo)-1]
			x, y := i%w, i/w
			box = box.Union(image.Rect(x, y, x+1, y+1))
			for v := max(y-1, 0); v <= min(y+1, h-1); v++ {
				for u := max(x-1, 0); u <= min(x+1, w-1); u++ {
					if j := v*w + u; !done[j] && cells[j] >= leastInCell {
						done[j] = true
						todo = append(todo, j)
					}
				}
			}
		}
		out = append(out, box)
	}
	size := func(r image.Rectangle) int { return r.Dx() * r.Dy() }
	slices.SortStableFunc(out, func(a, b image.Rectangle) int { return cmp.Compare(size(b), size(a)) })
	return out[:min(len(out), maxRegions)]
}
