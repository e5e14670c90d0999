package phone

// The film that the phone makes of its screen: screenrecord. A picture is written as soon as it is made, and none while nothing changes.

import (
	"context"
	"fmt"
	"image"
	"image/draw"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	xdraw "golang.org/x/image/draw"
)

const (
	filmEvery = 16 * time.Millisecond // between two pictures of a display
	filmLimit = 180 * time.Second     // that screenrecord goes on for at most, and by itself
)

// film is how the film is wanted.
type film struct {
	w, h  int
	rate  string
	limit time.Duration
}

// filmOptions reads screenrecord's options; wrong is what it says of them.
func (p *Phone) filmOptions(args []string) (f film, wrong string) {
	p.mu.Lock()
	f.w, f.h = p.upright()
	p.mu.Unlock()
	f.rate, f.limit = "20000000", filmLimit
	format, to := "mp4", ""
	for i := 0; i < len(args); i++ {
		name, value, has := strings.Cut(args[i], "=")
		if !strings.HasPrefix(name, "--") {
			to = args[i]
			continue
		}
		if !has && i+1 < len(args) {
			i++
			value = args[i]
		}
		n, err := strconv.Atoi(value)
		switch name {
		case "--output-format":
			format = value
		case "--size":
			if _, err := fmt.Sscanf(value, "%dx%d", &f.w, &f.h); err != nil || f.w <= 0 || f.h <= 0 {
				return f, fmt.Sprintf("Invalid size '%s', must be width x height", value)
			}
		case "--bit-rate":
			if f.rate = value; err != nil || n < 100_000 || n > 200_000_000 {
				return f, fmt.Sprintf("Bit rate %sbps outside acceptable range [100000,200000000]", value)
			}
		case "--time-limit":
			if f.limit = time.Duration(n) * time.Second; err != nil || n <= 0 || f.limit > filmLimit {
				return f, fmt.Sprintf("Time limit %ss outside acceptable range [1,180]", value)
			}
		case "--display-id":
		default:
			return f, fmt.Sprintf("screenrecord: unrecognized option '%s'", name)
		}
	}
	switch {
	case to == "":
		return f, "Must specify output file (see --help)."
	case format != "h264" || to != "-":
		return f, "ERROR: the simulated phone writes H.264 to its output and nothing else"
	case f.w%2+f.h%2 > 0 || f.w > 1920 || f.h > 1920:
		return f, fmt.Sprintf("Unable to configure video/avc codec at %dx%d (err=-38)", f.w, f.h)
	}
	return f, ""
}

func (p *Phone) screenrecord(c *call) int {
	f, wrong := p.filmOptions(c.args)
	p.mu.Lock()
	broken, noFilm := p.filmed, p.traits.NoFilm
	p.mu.Unlock()
	if noFilm {
		wrong = "ERROR: unable to create video/avc codec instance"
	}
	if wrong != "" {
		fmt.Fprintln(c.err, wrong)
		return 2
	}
	p.take(c.ctx, 180, 320)
	ctx, cancel := context.WithCancel(c.ctx)
	defer cancel()
	p.mu.Lock()
	w, h := p.upright()
	p.mu.Unlock()
	// The phone has no encoder of its own in its silicon; this is one in software.
	enc := exec.CommandContext(ctx, "ffmpeg", "-nostdin", "-v", "error", "-fpsprobesize", "0", // no picture waits for the next
		"-f", "rawvideo", "-pix_fmt", "rgba", "-s", fmt.Sprintf("%dx%d", w, h), "-i", "-",
		"-vf", fmt.Sprintf("scale=%d:%d:force_original_aspect_ratio=decrease:out_color_matrix=bt709:out_range=tv:flags=fast_bilinear,format=yuv420p,pad=%[1]d:%[2]d:(ow-iw)/2:(oh-ih)/2", f.w, f.h),
		"-fps_mode", "passthrough", "-c:v", "libx264", "-preset", "ultrafast", "-tune", "zerolatency", "-maxrate", f.rate, "-bufsize", f.rate, "-crf", "28", "-g", "300", "-threads", "1",
		"-color_primaries", "bt709", "-color_trc", "bt709", "-colorspace", "bt709", "-color_range", "tv", "-flush_packets", "1", "-f", "h264", "-")
	enc.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	in, err1 := enc.StdinPipe()
	enc.Stdout = c.out
	if err := enc.Start(); err1 != nil || err != nil {
		fmt.Fprintln(c.err, "ERROR: unable to create video/avc codec instance")
		return 1
	}
	code := p.shoot(ctx, f.limit, image.Pt(w, h), in, broken)
	if code != 0 {
		cancel()
		fmt.Fprintln(c.err, "Unable to get output buffers (err=-32)")
	}
	_ = in.Close()
	_ = enc.Wait()
	return code
}

// shoot gives the encoder a picture for each change of the screen, in the size of the upright screen.
func (p *Phone) shoot(ctx context.Context, limit time.Duration, size image.Point, enc io.Writer, broken <-chan struct{}) (code int) {
	end := time.NewTimer(limit)
	defer end.Stop()
	tick := time.NewTicker(filmEvery)
	defer tick.Stop()
	var last *picture
	frame := image.NewRGBA(image.Rectangle{Max: size})
	for {
		p.mu.Lock()
		p.doze()
		pic, secure := p.look(), p.traits.Secure && p.frontApp() != nil
		p.mu.Unlock()
		if pic != last {
			last = pic
			pixels := pic.img.Pix
			if secure || pic.img.Rect != frame.Rect {
				draw.Draw(frame, frame.Rect, image.Black, image.Point{}, draw.Src)
				if pixels = frame.Pix; !secure {
					xdraw.ApproxBiLinear.Scale(frame, within(frame.Rect, pic.img.Rect), pic.img, pic.img.Rect, draw.Src, nil)
				}
			}
			if _, err := enc.Write(pixels); err != nil {
				return 1
			}
		}
		select {
		case <-tick.C:
		case <-end.C:
			return 0
		case <-broken:
			return 1
		case <-ctx.Done():
			return 0
		}
	}
}

// within is the largest place in a frame for a picture, in its middle.
func within(frame, pic image.Rectangle) image.Rectangle {
	w, h := frame.Dx(), pic.Dy()*frame.Dx()/pic.Dx()
	if h > frame.Dy() {
		w, h = pic.Dx()*frame.Dy()/pic.Dy(), frame.Dy()
	}
	return image.Rect(0, 0, w, h).Add(image.Pt((frame.Dx()-w)/2, (frame.Dy()-h)/2))
}

// BreakFilm breaks the encoder under the films that are being made; for good: no other one can be made either.
func (p *Phone) BreakFilm(forGood bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	close(p.filmed)
	p.filmed, p.traits.NoFilm = make(chan struct{}), p.traits.NoFilm || forGood
}
