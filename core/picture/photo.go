package picture

import (
	"bytes"
	"encoding/binary"
)

// bare takes out of a photo what it tells beside the picture: where and when it was taken, with what, by whom, and
// small copies of what it showed before it was cut. Which way is up stays. What follows the picture is cut off. A file
// whose parts cannot be told apart is given back as nil.
//
// JPEG: ITU-T T.81 annex B; Exif 2.32 (CIPA DC-008) 4.5.5 for the way up. PNG: W3C PNG (third edition), chapter 11.
func bare(format string, body []byte) []byte {
	if format == "png" {
		return barePNG(body)
	}
	return bareJPEG(body)
}

var keptChunks = words("IHDR PLTE IDAT IEND tRNS cHRM gAMA iCCP sBIT sRGB cICP bKGD pHYs acTL fcTL fdAT")

func barePNG(body []byte) []byte {
	out := append([]byte(nil), body[:8]...)
	for rest := body[8:]; len(rest) >= 12; {
		n := int64(binary.BigEndian.Uint32(rest)) + 12
		if n > int64(len(rest)) {
			return nil
		}
		name := string(rest[4:8])
		if keptChunks[name] {
			out = append(out, rest[:n]...)
		}
		if name == "IEND" {
			return out
		}
		rest = rest[n:]
	}
	return nil
}

const (
	eoi, sos        = 0xd9, 0xda
	app0, app1      = 0xe0, 0xe1
	colours, adobe  = 0xe2, 0xee // the ICC profile, and how colours are coded
	appLast         = 0xef
	jpegRemark      = 0xfe
	exifOrientation = 0x0112
)

// Long, because it is one pass over the markers, with a case for each.
func bareJPEG(body []byte) []byte {
	out := append([]byte(nil), body[:2]...)
	turned := false
	for at := 2; ; {
		for at < len(body) && body[at] == 0xff && at+1 < len(body) && body[at+1] == 0xff {
			at++ // markers may be padded
		}
		if at+4 > len(body) || body[at] != 0xff {
			return nil
		}
		kind := body[at+1]
		if kind == eoi {
			return append(out, 0xff, eoi)
		}
		n := int(binary.BigEndian.Uint16(body[at+2:]))
		if n < 2 || at+2+n > len(body) {
			return nil
		}
		segment := body[at : at+2+n]
		at += 2 + n
		switch {
		case kind == app1:
			if up := wayUp(segment[4:]); up > 1 && !turned {
				out, turned = append(out, upExif(up)...), true
			}
		case kind == colours && bytes.HasPrefix(segment[4:], []byte("ICC_PROFILE\x00")), kind == app0 &&
			bytes.HasPrefix(segment[4:], []byte("JFIF\x00")), kind == adobe:
			out = append(out, segment...)
		case kind >= app0 && kind <= appLast || kind == jpegRemark:
		default:
			out = append(out, segment...)
		}
		if kind != sos {
			continue
		}
		for begin := at; ; at++ { // the picture itself, up to a marker that is no part of it
			if at+1 >= len(body) {
				return append(out, body[begin:]...) // it ends early, and decoders show what there is
			}
			if next := body[at+1]; body[at] == 0xff && next != 0 && (next < 0xd0 || next > 0xd7) {
				out = append(out, body[begin:at]...)
				break
			}
		}
	}
}

// wayUp is the orientation that Exif tells, 1 to 8; 0: none.
func wayUp(app []byte) uint16 {
	tiff, ok := bytes.CutPrefix(app, []byte("Exif\x00\x00"))
	if !ok || len(tiff) < 8 {
		return 0
	}
	var order binary.ByteOrder = binary.BigEndian
	if tiff[0] == 'I' {
		order = binary.LittleEndian
	}
	at := int64(order.Uint32(tiff[4:]))
	if at+2 > int64(len(tiff)) {
		return 0
	}
	entries := tiff[at+2:]
	for range order.Uint16(tiff[at:]) {
		if len(entries) < 12 {
			return 0
		}
		if order.Uint16(entries) == exifOrientation {
			if up := order.Uint16(entries[8:]); up <= 8 {
				return up
			}
			return 0
		}
		entries = entries[12:]
	}
	return 0
}

// upExif is a segment that tells the way up and nothing else.
func upExif(up uint16) []byte {
	tiff := append([]byte("Exif\x00\x00MM\x00\x2a"), 0, 0, 0, 8, 0, 1)
	tiff = binary.BigEndian.AppendUint16(tiff, exifOrientation)
	tiff = append(tiff, 0, 3, 0, 0, 0, 1)
	tiff = binary.BigEndian.AppendUint16(tiff, up)
	tiff = append(tiff, 0, 0, 0, 0, 0, 0)
	return append(binary.BigEndian.AppendUint16([]byte{0xff, app1}, uint16(len(tiff)+2)), tiff...)
}
