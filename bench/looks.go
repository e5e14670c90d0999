package main

// Runs step by step: pictures of 16 devices × 20 steps, looked at and stacked. Whether the stacks are right is for the tests of core/likeness: they print their labelled pairs.

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math/rand/v2"
	"time"

	"tessellant/internal/core/likeness"
	"tessellant/internal/core/steps"
)

// screenOf draws a page of lines of words, as dense as a settings page, wrapped to the screen's width; odd has another word in it and lacks the last line.
func screenOf(page, widthDP, heightDP int, scale float64, odd bool) image.Image {
	px := func(dp float64) int { return int(dp * scale) }
	m := image.NewNRGBA(image.Rect(0, 0, px(float64(widthDP)), px(float64(heightDP))))
	draw.Draw(m, m.Bounds(), image.NewUniform(color.RGBA{246, 243, 236, 255}), image.Point{}, draw.Src)
	rnd := rand.New(rand.NewPCG(uint64(page), 7))
	x, y := 16.0, 40.0
	for word := range 60 {
		letters := 2 + rnd.IntN(9)
		if odd && word == 7 {
			letters += 4
		}
		if odd && word > 50 {
			break
		}
		if x+float64(letters)*7 > float64(widthDP)-16 {
			x, y = 16, y+30
		}
		for range letters {
			high := 5 + rnd.IntN(8)
			draw.Draw(m, image.Rect(px(x), px(y+14-float64(high)), px(x+5), px(y+14)), image.NewUniform(color.RGBA{30, 37, 48, 255}), image.Point{}, draw.Src)
			x += 7
		}
		x += 6
	}
	return m
}

// stacking looks at 320 pictures and stacks them, as a service does when the page of a run is opened.
func stacking() error {
	sizes := [][2]int{{411, 914}, {320, 640}, {340, 680}, {360, 780}, {384, 826}, {393, 851}, {800, 1280}, {360, 720}}
	scales := []float64{1.75, 2, 1.5, 1.33}
	lines := make([][]byte, 0, 320)
	looking := time.Duration(0)
	for step := range 20 {
		for device := range 16 {
			z, scale := sizes[device%len(sizes)], scales[device%len(scales)]
			var file bytes.Buffer
			if err := png.Encode(&file, screenOf(step, z[0], z[1], scale, device%5 == 4)); err != nil {
				return err
			}
			start := time.Now()
			img, err := likeness.Decode(file.Bytes())
			if err != nil {
				return err
			}
			p := likeness.Of(img, scale, image.Rectangle{})
			looking += time.Since(start)
			line, err := json.Marshal(steps.Look{Case: "c", Step: fmt.Sprint(step), Nth: 1, Print: &p})
			if err != nil {
				return err
			}
			lines = append(lines, line)
		}
	}
	start := time.Now()
	stacks := 0
	for step := range 20 {
		var prints []likeness.Print
		for device := range 16 {
			var l steps.Look
			if err := json.Unmarshal(lines[step*16+device], &l); err != nil {
				return err
			}
			prints = append(prints, *l.Print)
		}
		stacks += len(likeness.Stacks(prints))
	}
	took := time.Since(start)
	return say("stacking 16 devices × 20 steps ÷ 1 s", took.Seconds(), 1, "%d stacks in %s; a host looks at a picture while the test goes on, in %s", stacks, took.Round(time.Millisecond), (looking / 320).Round(100*time.Microsecond))
}
