package appfile

// Icons as iOS's own tools pack them: PNGs with a chunk CgBI, whose data have no zlib header and whose colours are in another order, with the alpha worked in.
// PNG: RFC 2083. The rest is not written down by anybody; it is what the tools make.

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"io"
)

const pngHead = "\x89PNG\r\n\x1a\n"

// standardPNG gives a picture as everybody reads it: what is no PNG of iOS's tools as it is. Nil: it is one, and can't be read.
func standardPNG(raw []byte) []byte {
	if !bytes.HasPrefix(raw, []byte(pngHead)) || len(raw) < 16 || string(raw[12:16]) != "CgBI" {
		return raw
	}
	var width, height int
	var packed bytes.Buffer
	for rest := raw[8:]; len(rest) >= 12; {
		n := binary.BigEndian.Uint32(rest)
		if uint64(n)+12 > uint64(len(rest)) {
			return nil
		}
		body := rest[8 : 8+n]
		switch string(rest[4:8]) {
		case "IHDR":
			if n < 13 || body[8] != 8 || body[9] != 6 || body[12] != 0 { // 8 bits, with alpha, not interlaced: what the tools make
				return nil
			}
			width, height = int(binary.BigEndian.Uint32(body)), int(binary.BigEndian.Uint32(body[4:]))
		case "IDAT":
			packed.Write(body)
		}
		rest = rest[12+n:]
	}
	if width < 1 || height < 1 || width > maxIconSide || height > maxIconSide {
		return nil
	}
	lines, err := io.ReadAll(io.LimitReader(flate.NewReader(&packed), int64(height)*int64(1+4*width)+1))
	if err != nil && len(lines) < height*(1+4*width) || len(lines) < height*(1+4*width) {
		return nil
	}
	// The lines are filtered as in any PNG (RFC 2083, section 6), so they are read by putting them into one.
	return repack(width, height, lines[:height*(1+4*width)])
}

// repack makes a PNG of filtered lines, and mends its colours.
func repack(width, height int, lines []byte) []byte {
	var out bytes.Buffer
	out.WriteString(pngHead)
	chunk := func(kind string, body []byte) {
		head := binary.BigEndian.AppendUint32(nil, uint32(len(body)))
		out.Write(head)
		whole := append([]byte(kind), body...)
		out.Write(whole)
		out.Write(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(whole)))
	}
	header := binary.BigEndian.AppendUint32(nil, uint32(width))
	header = binary.BigEndian.AppendUint32(header, uint32(height))
	chunk("IHDR", append(header, 8, 6, 0, 0, 0))
	chunk("IDAT", stored(lines))
	chunk("IEND", nil)
	img, err := png.Decode(&out)
	if err != nil {
		return nil
	}
	straight := image.NewNRGBA(img.Bounds())
	for y := range height {
		for x := range width {
			c, _ := color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA)
			r, g, b := c.B, c.G, c.R // blue comes first
			if c.A > 0 && c.A < 255 {
				part := func(v uint8) uint8 { return uint8(min(255, (int(v)*255+int(c.A)/2)/int(c.A))) }
				r, g, b = part(r), part(g), part(b)
			}
			straight.SetNRGBA(x, y, color.NRGBA{r, g, b, c.A})
		}
	}
	var mended bytes.Buffer
	if png.Encode(&mended, straight) != nil {
		return nil
	}
	return mended.Bytes()
}

// stored packs bytes as zlib does that does not compress (RFC 1950, RFC 1951 section 3.2.4).
func stored(raw []byte) []byte {
	out := []byte{0x78, 0x01}
	a, b := uint32(1), uint32(0)
	for _, x := range raw {
		a = (a + uint32(x)) % 65521
		b = (b + a) % 65521
	}
	for len(raw) > 0 {
		n := min(len(raw), 65535)
		last := byte(0)
		if n == len(raw) {
			last = 1
		}
		out = append(out, last, byte(n), byte(n>>8), byte(^n), byte(^n>>8))
		out = append(out, raw[:n]...)
		raw = raw[n:]
	}
	return binary.BigEndian.AppendUint32(out, b<<16|a)
}
