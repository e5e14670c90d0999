package film

// The video of a film: what the device filmed as it is, and what it did not, of pictures.

import (
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// maxGap is how many ms the device may have filmed nothing without it being shown: the picture before stands so long.
const maxGap = 3000

// part is a part of the video: of a piece of what the device filmed, or of pictures.
type part struct {
	from       int64 // ms on the attempt's clock
	piece      *piece
	first, end int // of its shots
	frames     []frame
}

// parts puts together what there is, in the order of time.
func (f *Film) parts() (all []part) {
	frames := f.frames
	if f.reel != nil {
		for _, p := range f.reel.pieces {
			for i, s := range p.shots {
				n := 0
				for n < len(frames) && frames[n].at < s.at {
					n++
				}
				cut := i == 0
				if n > 0 && s.at-frames[0].at >= maxGap && s.key {
					all = append(all, part{from: frames[0].at, frames: frames[:n]})
					cut = true
				}
				frames = frames[n:]
				if cut {
					all = append(all, part{from: s.at, piece: p, first: i})
				}
				all[len(all)-1].end = i + 1
			}
		}
	}
	if len(frames) > 0 {
		all = append(all, part{from: frames[0].at, frames: frames})
	}
	return all
}

// Encode makes an H.264 video that lasts until end (ms on the attempt's clock) and starts at zero, so that its time is the attempt's, to the millisecond.
// What the device filmed in one piece is taken as it is; all else is encoded.
func (f *Film) Encode(ctx context.Context, target string, end int64) error {
	f.rest()
	f.mu.Lock()
	defer f.mu.Unlock()
	all := f.parts()
	if len(all) == 0 {
		if f.err != nil {
			return f.err
		}
		return errors.New("no picture of the screen could be taken")
	}
	all[0].from = 0
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	var err error
	switch p := all[0]; {
	case len(all) == 1 && p.piece != nil:
		err = ffmpeg(ctx, p.feed(end), "-f", "matroska", "-i", "-", "-c", "copy", "-movflags", "+faststart", target)
	case len(all) == 1:
		err = f.pictures(ctx, p, end, target)
	default:
		err = f.joined(ctx, all, end, target)
	}
	if err != nil {
		return err
	}
	given := f.taken
	if f.reel != nil {
		given += f.reel.taken
	}
	if err := os.RemoveAll(f.dir); err != nil {
		return err
	}
	f.share.Back(given)
	if i, err := os.Stat(target); err == nil {
		_ = f.share.Room(i.Size()) // it is smaller than what it was made of, mostly
	}
	return nil
}

// feed gives what the device filmed to ffmpeg; it lasts until to.
func (p part) feed(to int64) func(io.Writer) error {
	return func(w io.Writer) error {
		return p.piece.mux(w, p.first, p.end, p.from, to)
	}
}

// joined encodes each part alike, and puts them together.
func (f *Film) joined(ctx context.Context, all []part, end int64, target string) error {
	var list strings.Builder
	list.WriteString("ffconcat version 1.0\n")
	for i, p := range all {
		to := end
		if i+1 < len(all) {
			to = all[i+1].from
		}
		name := fmt.Sprintf("part-%d.mp4", i)
		file := filepath.Join(f.dir, name)
		var err error
		if p.piece == nil {
			err = f.pictures(ctx, p, to, file)
		} else {
			err = f.filmed(ctx, p, to, file)
		}
		if err != nil {
			return err
		}
		fmt.Fprintf(&list, "file %s\nduration %.3f\n", name, float64(max(to-p.from, 1))/1000)
	}
	file := filepath.Join(f.dir, "parts.ffconcat")
	if err := os.WriteFile(file, []byte(list.String()), 0o600); err != nil {
		return err
	}
	return ffmpeg(ctx, nil, "-f", "concat", "-safe", "0", "-i", file, "-c", "copy", "-movflags", "+faststart", target)
}

// filmed encodes what the device filmed in a video of the film's size.
func (f *Film) filmed(ctx context.Context, p part, to int64, target string) error {
	if f.size == (image.Point{}) {
		w, h, err := p.piece.parameters.Size()
		if err != nil {
			return err
		}
		f.size = image.Pt(w&^1, h&^1)
	}
	fit := fmt.Sprintf("scale=%d:%d:force_original_aspect_ratio=decrease,pad=%d:%d:(ow-iw)/2:(oh-ih)/2,setsar=1,format=yuv420p", f.size.X, f.size.Y, f.size.X, f.size.Y)
	return ffmpeg(ctx, p.feed(to), append(append([]string{"-f", "matroska", "-i", "-", "-vf", fit}, encoder...), target)...)
}

// encoder is how videos are encoded.
var encoder = []string{"-fps_mode", "vfr", "-c:v", "libx264", "-preset", "veryfast", "-bf", "0", "-crf", "28", "-g", "10", "-threads", "1", "-video_track_timescale", "16000",
	"-color_primaries", "bt709", "-color_trc", "bt709", "-colorspace", "bt709", "-color_range", "tv", "-movflags", "+faststart"}

// pictures encodes pictures. Their times are exact to the millisecond: the list sets the frame rate of each picture's demuxer to 1000.
func (f *Film) pictures(ctx context.Context, p part, end int64, target string) error {
	var list strings.Builder
	list.WriteString("ffconcat version 1.0\n")
	for i, fr := range p.frames {
		from, to := fr.at, end
		if i == 0 {
			from = p.from
		}
		if i+1 < len(p.frames) {
			to = p.frames[i+1].at
		}
		fmt.Fprintf(&list, "file %s\noption framerate 1000\nduration %.3f\n", fr.file, float64(max(to-from, 1))/1000)
	}
	// The last picture stands once more: its own duration counts only then.
	fmt.Fprintf(&list, "file %s\noption framerate 1000\n", p.frames[len(p.frames)-1].file)
	file := filepath.Join(f.dir, p.frames[0].file+".ffconcat")
	if err := os.WriteFile(file, []byte(list.String()), 0o600); err != nil {
		return err
	}
	fit := fmt.Sprintf("scale=%d:%d:flags=area:out_color_matrix=bt709:out_range=tv,format=yuv420p", f.size.X, f.size.Y)
	return ffmpeg(ctx, nil, append(append([]string{"-threads", "1", "-f", "concat", "-safe", "0", "-i", file, "-vf", fit}, encoder...), target)...)
}

// ffmpeg runs it; feed writes to its input, where there is one.
func ffmpeg(ctx context.Context, feed func(io.Writer) error, args ...string) error {
	path, err := exec.LookPath("ffmpeg")
	if err != nil {
		return errors.New("ffmpeg is not installed; on Debian: apt-get install ffmpeg")
	}
	cmd := exec.CommandContext(ctx, path, append([]string{"-nostdin", "-v", "error", "-y"}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	if feed != nil {
		in, w := io.Pipe()
		cmd.Stdin = in
		go func() { _ = w.CloseWithError(feed(w)) }()
		defer in.Close()
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("the video can't be encoded: %w: %s", err, strings.TrimSpace(said.String()))
	}
	return nil
}
