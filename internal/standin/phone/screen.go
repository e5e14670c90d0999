package phone

// What the screen shows: the picture of it, and the tree of it.

import (
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	xdraw "golang.org/x/image/draw"

	"tessellant/internal/standin/paint"
)

var (
	white    = paint.Hex(0xFFFFFF)
	black    = paint.Hex(0x101418)
	grey     = paint.Hex(0x6B7378)
	keyShade = paint.Hex(0xDDE3E6)
	keyPlate = paint.Hex(0xF4F6F7)
)

// look draws the screen, under mu; once for each state that it is in.
func (p *Phone) look() *picture {
	still := p.unmoved()
	if !p.restless || p.asleep || p.locked {
		return still
	}
	key := fmt.Sprint(still.key, "/", time.Since(p.began)/movesEvery)
	if p.swept == nil || p.swept.key != key {
		p.swept = &picture{key: key, img: moved(still.img, int(time.Since(p.began)/movesEvery))}
	}
	return p.swept
}

// movesEvery is how often what moves is somewhere else.
const movesEvery = time.Second / 60

// moved gives a screen with a bar that runs along its lower edge.
func moved(screen *image.RGBA, step int) *image.RGBA {
	out := &image.RGBA{Pix: slices.Clone(screen.Pix), Stride: screen.Stride, Rect: screen.Rect}
	w, h := screen.Rect.Dx(), screen.Rect.Dy()
	x := step * 8 % max(w-w/5, 1)
	draw.Draw(out, image.Rect(x, h-h/50, x+w/5, h), image.NewUniform(color.RGBA{0x24, 0x57, 0xA6, 0xFF}), image.Point{}, draw.Src)
	return out
}

// unmoved is what the screen shows of all that does not move by itself, under mu.
func (p *Phone) unmoved() *picture {
	key := fmt.Sprint(p.changes, p.now().Format("15:04"), p.front, p.crashed, p.hangs, p.asleep, p.locked, p.folded, p.asking, p.turns())
	if a := p.frontApp(); a != nil {
		key += fmt.Sprint("/", a.Version)
	}
	if p.drawn != nil && p.drawn.key == key {
		return p.drawn
	}
	w, h := p.size()
	c := paint.NewCanvas(w, h, p.fonts, black)
	a := p.frontApp()
	switch {
	case p.asleep:
		p.drawn = &picture{key: key, img: c.Picture()}
		return p.drawn
	case p.locked:
		p.drawLock(c)
		p.drawStatus(c)
		p.drawn = &picture{key: key, img: c.Picture()}
		return p.drawn
	case a != nil:
		a.Draw(c)
		if up, numeric := a.Keyboard(); up {
			p.drawKeyboard(c, numeric, float64(a.KeyboardHeight()))
		}
	default:
		p.drawHome(c)
	}
	if p.crashed != "" {
		p.drawCrash(c)
	}
	if p.asking != nil {
		p.drawAsking(c)
	}
	p.drawStatus(c)
	p.drawNav(c, a != nil)
	p.drawn = &picture{key: key, img: c.Picture()}
	return p.drawn
}

func (p *Phone) drawStatus(c *paint.Canvas) {
	w, _ := p.sizes()
	h := float64(p.dp(24))
	mid := h / 2
	c.Text(p.now().UTC().Format("15:04"), c.DP(14), mid, 0, paint.Medium, 12.5, white)
	// The battery, then how well the phone hears its network.
	x := w - c.DP(24)
	c.Frame(x, mid-c.DP(4), c.DP(13), c.DP(8), 1.5, 1, white)
	c.Box(x+c.DP(1.5), mid-c.DP(2.5), c.DP(10)*float64(p.level)/100, c.DP(5), 0, white)
	c.Box(x+c.DP(13.5), mid-c.DP(1.5), c.DP(1.5), c.DP(3), 0, white)
	c.Text(fmt.Sprintf("%d%%", p.level), x-c.DP(5), mid, 1, paint.Regular, 11, white)
	x -= c.DP(52)
	for i := range 4 {
		bar := c.DP(3 + 2*float64(i))
		c.Box(x+c.DP(4)*float64(i), mid+c.DP(4.5)-bar, c.DP(2.6), bar, 0, white)
	}
	x -= c.DP(14)
	c.SetColor(white)
	c.SetLineWidth(c.DP(1.5))
	for _, r := range []float64{3.5, 6.5, 9.5} {
		c.DrawArc(x, mid+c.DP(4.5), c.DP(r), math.Pi*1.27, math.Pi*1.73)
		c.Stroke()
	}
	c.DrawCircle(x, mid+c.DP(3.8), c.DP(1.3))
	c.Fill()
}

func (p *Phone) drawNav(c *paint.Canvas, light bool) {
	w, h := p.sizes()
	nav := float64(p.navHeight())
	ink := white
	plate := keyPlate
	if light {
		ink = grey
		if p.frontApp().Dark() {
			plate = black
		}
	}
	mid := h - nav/2
	if p.traits.API >= 29 {
		if light {
			c.Box(0, h-nav, w, nav, 0, plate)
		}
		c.Box(w/2-c.DP(52), mid-c.DP(2), c.DP(104), c.DP(4), 2, ink)
		return
	}
	c.Box(0, h-nav, w, nav, 0, black)
	c.SetColor(white)
	c.SetLineWidth(c.DP(1.8))
	c.MoveTo(w/4+c.DP(6), mid-c.DP(7))
	c.LineTo(w/4-c.DP(7), mid)
	c.LineTo(w/4+c.DP(6), mid+c.DP(7))
	c.ClosePath()
	c.Stroke()
	c.DrawCircle(w/2, mid, c.DP(7))
	c.Stroke()
	c.DrawRectangle(w*3/4-c.DP(6.5), mid-c.DP(6.5), c.DP(13), c.DP(13))
	c.Stroke()
}

// drawLock draws what stands before everything else until somebody unlocks the phone.
func (p *Phone) drawLock(c *paint.Canvas) {
	w, h := p.sizes()
	c.Text(p.now().UTC().Format("15:04"), w/2, h*0.2, 0.5, paint.Regular, 56, white)
	c.Text(map[bool]string{true: "PIN", false: "↑"}[p.traits.Lock == "pin"], w/2, h*0.85, 0.5, paint.Medium, 18, white)
}

func (p *Phone) drawHome(c *paint.Canvas) {
	w, h := p.sizes()
	top, bottom := [3]float64{38, 64, 84}, [3]float64{122, 142, 138}
	for y := 0; y < int(h); y++ {
		f := float64(y) / h
		c.SetColor(color.RGBA{uint8(top[0] + (bottom[0]-top[0])*f), uint8(top[1] + (bottom[1]-top[1])*f), uint8(top[2] + (bottom[2]-top[2])*f), 255})
		c.DrawRectangle(0, float64(y), w, 1)
		c.Fill()
	}
	c.Text(p.now().UTC().Format("15:04"), w/2, h*0.2, 0.5, paint.Regular, 56, white)
	c.Text(p.now().UTC().Format("Monday 2 January"), w/2, h*0.2+c.DP(46), 0.5, paint.Regular, 16, white)
	var ids []string
	for id := range p.apps {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	names := []string{"Phone", "Messages", "Web", "Camera"}
	hues := []uint32{0x3E8E5A, 0x3C6FB4, 0xC2683A, 0x5A5F6B}
	cell, size := w/4, c.DP(52)
	place := func(i int, y float64, label string, icon image.Image, hue uint32) {
		x := cell*(float64(i)+0.5) - size/2
		if icon != nil {
			r := image.Rect(int(x), int(y), int(x+size), int(y+size))
			xdraw.CatmullRom.Scale(c.Picture(), r, icon, icon.Bounds(), draw.Over, nil)
		} else {
			c.Box(x, y, size, size, 14, paint.Hex(hue))
			c.Text(label[:1], x+size/2, y+size/2, 0.5, paint.Bold, 24, white)
		}
		c.Text(label, x+size/2, y+size+c.DP(13), 0.5, paint.Regular, 12, white)
	}
	for i, id := range ids {
		place(i%4, h-float64(p.navHeight())-c.DP(220), p.apps[id].facts.Label, p.apps[id].icon, hues[i%4])
	}
	for i, n := range names {
		place(i, h-float64(p.navHeight())-c.DP(104), n, nil, hues[i])
	}
}

// dialog is where the crash dialog lies.
func (p *Phone) dialog() (x, y, w, h int) {
	sw, sh := p.size()
	w = min(sw-p.dp(48), p.dp(340))
	h = p.dp(140)
	return (sw - w) / 2, (sh - h) / 2, w, h
}

// onDialog says whether a point is on the dialog's button.
func (p *Phone) onDialog(px, py int) bool {
	x, y, w, h := p.dialog()
	return px >= x && px < x+w && py >= y+h/2 && py < y+h
}

func (p *Phone) crashTexts() (title, button string) {
	if p.hangs {
		if p.traits.Language == "de" {
			return p.crashed + " reagiert nicht", "App schließen"
		}
		return p.crashed + " isn't responding", "Close app"
	}
	if p.traits.Language == "de" {
		return p.crashed + " wurde beendet", "App schließen"
	}
	if p.traits.API < 24 {
		return "Unfortunately, " + p.crashed + " has stopped.", "OK"
	}
	return p.crashed + " has stopped", "Close app"
}

func (p *Phone) drawCrash(c *paint.Canvas) {
	sw, sh := p.sizes()
	c.Box(0, 0, sw, sh, 0, paint.Fade(black, 0.55))
	xi, yi, wi, hi := p.dialog()
	x, y, w, h := float64(xi), float64(yi), float64(wi), float64(hi)
	title, button := p.crashTexts()
	c.Box(x, y, w, h, 6, white)
	c.Text(title, x+c.DP(24), y+c.DP(38), 0, paint.Medium, 19, black)
	mid := y + h - c.DP(34)
	c.SetColor(grey)
	c.SetLineWidth(c.DP(1.8))
	c.DrawCircle(x+c.DP(34), mid, c.DP(9))
	c.Stroke()
	c.DrawLine(x+c.DP(30), mid-c.DP(4), x+c.DP(38), mid+c.DP(4))
	c.DrawLine(x+c.DP(38), mid-c.DP(4), x+c.DP(30), mid+c.DP(4))
	c.Stroke()
	c.Text(button, x+c.DP(58), mid, 0, paint.Regular, 16, black)
}

func (p *Phone) drawKeyboard(c *paint.Canvas, numeric bool, height float64) {
	w, h := p.sizes()
	top := h - float64(p.navHeight()) - height
	c.Box(0, top, w, height+float64(p.navHeight()), 0, keyShade)
	rows := []string{"qwertyuiop", "asdfghjkl", "^zxcvbnm<", ", >"}
	if p.traits.Language == "de" {
		rows = []string{"qwertzuiop", "asdfghjkl", "^yxcvbnm<", ", >"}
	}
	if numeric {
		rows = []string{"123-", "456 ", "789<", ",0.>"}
	}
	rowH := (height - c.DP(12)) / float64(len(rows))
	for r, row := range rows {
		keys := []rune(row)
		n := 10.0
		if numeric {
			n = 4
		}
		unit := (w - c.DP(6)) / n
		x := (w - unit*float64(len(keys))) / 2
		if !numeric && r == 3 {
			x = c.DP(3)
		}
		for _, k := range keys {
			kw := unit
			if !numeric && r == 3 {
				kw = unit * map[rune]float64{',': 1.5, ' ': 7, '>': 1.5}[k]
			}
			fill := white
			if strings.ContainsRune("^<>", k) {
				fill = paint.Hex(0xB9C6CC)
			}
			y := top + c.DP(8) + rowH*float64(r)
			c.Box(x+c.DP(2.5), y, kw-c.DP(5), rowH-c.DP(7), 5, fill)
			label := map[rune]string{'^': "↑", '<': "←", '>': "OK", ' ': ""}
			text, special := label[k]
			if !special {
				text = string(k)
			}
			c.Text(text, x+kw/2, y+(rowH-c.DP(7))/2, 0.5, paint.Regular, 18, black)
			x += kw
		}
	}
}

// screencap [-p] [-d DISPLAY]
func (p *Phone) screencap(c *call) int {
	p.take(c.ctx, 280, 420)
	p.mu.Lock()
	p.doze()
	pic := p.look()
	secure := p.traits.Secure && p.frontApp() != nil && !p.asleep && !p.locked
	display := 0
	if p.traits.Outer && !p.folded {
		display = 1
	}
	p.mu.Unlock()
	if secure && p.traits.API <= 28 {
		return 0 // it says nothing at all
	}
	asked := 0 // the first display, unless one is named
	for i, a := range c.args {
		if a == "-d" && i+1 < len(c.args) && p.traits.Outer {
			asked = slices.Index(displayIDs[:], c.args[i+1])
		}
	}
	if asked < 0 {
		fmt.Fprintln(c.err, "Invalid display ID")
		return 1
	}
	switch {
	case secure:
		pic = dark(pic.img.Rect.Dx(), pic.img.Rect.Dy())
	case p.traits.Outer && asked != display:
		pic = dark(outerWidth, outerHeight)
	}
	img := pic.img
	var raw []byte
	if slices.Contains(c.args, "-p") {
		raw = pic.asPNG()
	} else { // a header of width, height, format (1: RGBA 8888) and, since Android 9, the colour space
		head := binary.LittleEndian.AppendUint32(nil, uint32(img.Rect.Dx()))
		head = binary.LittleEndian.AppendUint32(head, uint32(img.Rect.Dy()))
		head = binary.LittleEndian.AppendUint32(head, 1)
		if p.traits.API >= 28 {
			head = binary.LittleEndian.AppendUint32(head, 1)
		}
		raw = append(head, img.Pix...)
	}
	if (p.traits.Temper == Stubborn || p.traits.Outer) && !slices.Contains(c.args, "-d") {
		c.say("[Warning] Multiple displays were found, but no display id was specified! Defaulting to the first display found.\n")
	}
	if p.traits.Trailing {
		raw = append(slices.Clip(raw), "\n"...)
	}
	_, _ = c.out.Write(raw)
	return 0
}

// dark is a picture on which nothing is.
func dark(w, h int) *picture { return &picture{img: paint.NewCanvas(w, h, nil, black).Picture()} }
