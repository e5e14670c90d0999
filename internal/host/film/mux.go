package film

// What a device filmed, put into a container with its times, on its way to ffmpeg: Matroska (RFC 9559), whose times are exact to the millisecond.

import (
	"fmt"
	"io"
	"slices"

	"github.com/at-wat/ebml-go"
	"github.com/at-wat/ebml-go/webm"
)

const (
	clusterShots = 200
	clusterLasts = 30_000 // ms; a block's time within it has 16 bits
)

// mux writes the pictures of a piece from one up to another. They last from a moment, which is the first one's then and zero, until another.
func (p *piece) mux(w io.Writer, first, end int, from, to int64) error {
	shots := slices.Clone(p.shots[first:end])
	shots[0].at = from
	width, height, err := p.parameters.Size()
	if err != nil {
		return err
	}
	head := struct {
		Header  webm.EBMLHeader `ebml:"EBML"`
		Segment struct {
			Info   webm.Info   `ebml:"Info"`
			Tracks webm.Tracks `ebml:"Tracks"`
		} `ebml:"Segment,size=unknown"`
	}{Header: webm.EBMLHeader{EBMLVersion: 1, EBMLReadVersion: 1, EBMLMaxIDLength: 4, EBMLMaxSizeLength: 8, DocType: "matroska", DocTypeVersion: 4, DocTypeReadVersion: 2}}
	const video, milliseconds = 1, 1_000_000
	head.Segment.Info = webm.Info{TimecodeScale: milliseconds, MuxingApp: "tessellant", WritingApp: "tessellant"}
	head.Segment.Tracks.TrackEntry = []webm.TrackEntry{{TrackNumber: 1, TrackUID: 1, TrackType: video, CodecID: "V_MPEG4/ISO/AVC", CodecPrivate: p.parameters.Record(),
		Video: &webm.Video{PixelWidth: uint64(width), PixelHeight: uint64(height)}}}
	if err := ebml.Marshal(&head, w); err != nil {
		return err
	}
	for i := 0; i < len(shots); {
		begin := shots[i].at
		var c struct {
			Cluster webm.Cluster `ebml:"Cluster"`
		}
		c.Cluster.Timecode = uint64(begin - from)
		for ; i < len(shots) && len(c.Cluster.BlockGroup) < clusterShots && shots[i].at-begin < clusterLasts; i++ {
			s, until := shots[i], to
			if i+1 < len(shots) {
				until = shots[i+1].at
			}
			raw := make([]byte, s.size)
			if _, err := p.file.ReadAt(raw, s.from); err != nil {
				return fmt.Errorf("read the film again: %w", err)
			}
			g := webm.BlockGroup{BlockDuration: uint64(max(until-s.at, 1)), Block: ebml.Block{TrackNumber: 1, Timecode: int16(s.at - begin), Keyframe: s.key, Data: [][]byte{raw}}}
			if !s.key {
				g.ReferenceBlock = -1
			}
			c.Cluster.BlockGroup = append(c.Cluster.BlockGroup, g)
		}
		if err := ebml.Marshal(&c, w); err != nil {
			return err
		}
	}
	return nil
}
