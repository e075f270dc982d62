package visual

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"io"

	"github.com/klauspost/compress/flate"
)

// decodeScreen reads the form of PNG in which browsers give their pictures: eight bits
// a channel, RGB or RGBA, not interlaced, nothing but one header, data and an end that
// matter (PNG specification, third edition, §5, §7 and §9). It returns nil for every
// other form and for what is damaged, which [Decode] leaves to the general reader; it
// takes a little more than half of that one's time.
func decodeScreen(raw []byte) *image.NRGBA {
	w, h, channels, data := screenChunks(raw)
	if data == nil || w*h > largest {
		return nil
	}
	// The checksums of the chunks were right, so that of the stream inside (RFC 1950 §2.2) need
	// not be computed, too; what it says of its form does matter.
	var head [2]byte
	if _, err := io.ReadFull(data, head[:]); err != nil || head[0]&15 != 8 || head[1]&32 != 0 || binary.BigEndian.Uint16(head[:])%31 != 0 {
		return nil
	}
	z := flate.NewReader(data)
	defer z.Close()
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	stride := w * channels
	line, above, zero := make([]byte, 1+stride), make([]byte, 1+stride), make([]byte, stride)
	for y := range h {
		if _, err := io.ReadFull(z, line); err != nil {
			return nil
		}
		if y > 0 && line[0] == 2 && bytes.Equal(line[1:], zero) { // the line above once more
			copy(out.Pix[y*out.Stride:(y+1)*out.Stride], out.Pix[(y-1)*out.Stride:y*out.Stride])
			continue
		}
		if !unfilter(line[0], line[1:], above[1:], channels) {
			return nil
		}
		px := out.Pix[y*out.Stride : y*out.Stride+4*w]
		if channels == 4 {
			copy(px, line[1:])
		} else {
			widen(px, line[1:])
		}
		line, above = above, line
	}
	// The end of the stream has to be there, too.
	if n, err := z.Read(line); n != 0 || err != io.EOF {
		return nil
	}
	return out
}

// screenChunks takes a PNG apart. The reader gives the compressed pixels; it is nil
// when the picture is of another form.
func screenChunks(raw []byte) (w, h, channels int, data io.Reader) {
	rest, ok := bytes.CutPrefix(raw, []byte("\x89PNG\r\n\x1a\n"))
	if !ok {
		return 0, 0, 0, nil
	}
	var parts []io.Reader
	for len(rest) >= 12 {
		n := binary.BigEndian.Uint32(rest)
		if uint64(n)+12 > uint64(len(rest)) {
			return 0, 0, 0, nil
		}
		kind, body := string(rest[4:8]), rest[8:8+n]
		if crc32.ChecksumIEEE(rest[4:8+n]) != binary.BigEndian.Uint32(rest[8+n:]) {
			return 0, 0, 0, nil
		}
		rest = rest[12+n:]
		switch kind {
		case "IHDR":
			if n != 13 || channels != 0 || body[8] != 8 || body[10] != 0 || body[11] != 0 || body[12] != 0 {
				return 0, 0, 0, nil
			}
			channels = map[byte]int{2: 3, 6: 4}[body[9]]
			wide, high := binary.BigEndian.Uint32(body), binary.BigEndian.Uint32(body[4:])
			if channels == 0 || wide == 0 || high == 0 || wide > largest || high > largest {
				return 0, 0, 0, nil
			}
			w, h = int(wide), int(high)
		case "IDAT":
			parts = append(parts, bytes.NewReader(body))
		case "tRNS":
			return 0, 0, 0, nil // a colour that means transparent
		case "IEND":
			if channels == 0 || len(parts) == 0 {
				return 0, 0, 0, nil
			}
			return w, h, channels, io.MultiReader(parts...)
		}
	}
	return 0, 0, 0, nil
}

// unfilter brings one line back to plain bytes (PNG specification §9.2).
func unfilter(kind byte, line, above []byte, bpp int) bool {
	above = above[:len(line)]
	switch kind {
	case 0:
	case 1:
		for i := bpp; i < len(line); i++ {
			line[i] += line[i-bpp]
		}
	case 2:
		// Eight bytes at a time: the upper bits are added without their carry.
		const low = 0x7f7f7f7f7f7f7f7f
		i := 0
		for ; i+8 <= len(line); i += 8 {
			x, y := binary.LittleEndian.Uint64(line[i:]), binary.LittleEndian.Uint64(above[i:])
			binary.LittleEndian.PutUint64(line[i:], (x&low+y&low)^((x^y)&^low))
		}
		for ; i < len(line); i++ {
			line[i] += above[i]
		}
	case 3:
		for i := range min(bpp, len(line)) {
			line[i] += above[i] / 2
		}
		for i := bpp; i < len(line); i++ {
			line[i] += uint8((int(line[i-bpp]) + int(above[i])) / 2)
		}
	case 4:
		for i := range min(bpp, len(line)) {
			line[i] += above[i]
		}
		for i := bpp; i < len(line); i++ {
			line[i] += paeth(line[i-bpp], above[i], above[i-bpp])
		}
	default:
		return false
	}
	return true
}

// paeth is the neighbour closest to left + up − corner (PNG specification §9.4).
func paeth(left, up, corner uint8) uint8 {
	toLeft, toUp := int(up)-int(corner), int(left)-int(corner)
	toCorner := abs(toLeft + toUp)
	toLeft, toUp = abs(toLeft), abs(toUp)
	switch {
	case toLeft <= toUp && toLeft <= toCorner:
		return left
	case toUp <= toCorner:
		return up
	}
	return corner
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

// widen puts an opaque alpha behind each colour.
func widen(px, rgb []byte) {
	n := len(rgb) / 3
	for i := range n - 1 {
		binary.LittleEndian.PutUint32(px[4*i:], binary.LittleEndian.Uint32(rgb[3*i:])|0xff000000)
	}
	px, rgb = px[4*(n-1):], rgb[3*(n-1):]
	px[0], px[1], px[2], px[3] = rgb[0], rgb[1], rgb[2], 255
}
