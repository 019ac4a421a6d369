package picture

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func chunk(name, body string) []byte {
	out := binary.BigEndian.AppendUint32(nil, uint32(len(body)))
	out = append(out, name+body...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE([]byte(name+body)))
}

// Of a photo the picture is kept, and which way is up; not where it was taken, nor what hangs on behind.
func TestAPhotoTellsNothingButThePicture(t *testing.T) {
	m := image.NewGray(image.Rect(0, 0, 40, 20))
	for i := range m.Pix {
		m.SetGray(i%40, i/40, color.Gray{uint8(i * 7)})
	}
	var j, p bytes.Buffer
	require.NoError(t, jpeg.Encode(&j, m, nil))
	require.NoError(t, png.Encode(&p, m))

	exif := upExif(6)
	secret := append(exif[:len(exif):len(exif)], []byte("GPS 47.1 N")...)
	binary.BigEndian.PutUint16(secret[2:], uint16(len(secret)-2))
	for _, order := range []binary.ByteOrder{binary.BigEndian, binary.LittleEndian} {
		if order == binary.LittleEndian {
			copy(secret[10:], "II")
			order.PutUint16(secret[12:], 42)
			order.PutUint32(secret[14:], 8)
			order.PutUint16(secret[18:], 1)
			order.PutUint16(secret[20:], exifOrientation)
			order.PutUint16(secret[28:], 6)
		}
		photo := append(append([]byte{}, j.Bytes()[:2]...), secret...)
		photo = append(photo, 0xff, jpegRemark, 0, 6, 'w', 'h', 'o', '?')
		photo = append(photo, 0xff, 0xed, 0, 6, 'c', 'i', 't', 'y')
		photo = append(append(photo, j.Bytes()[2:]...), "GPS behind"...)
		got, err := Clean(photo)
		require.NoError(t, err)
		assert.Equal(t, append(append([]byte{0xff, 0xd8}, exif...), j.Bytes()[2:]...), got.Body)
		_, err = jpeg.Decode(bytes.NewReader(got.Body))
		assert.NoError(t, err)
	}

	b := p.Bytes()
	photo := append(append([]byte{}, b[:33]...), chunk("eXIf", "GPS 47.1 N")...)
	photo = append(append(photo, chunk("tEXt", "Author\x00who")...), b[33:]...)
	got, err := Clean(append(photo, "GPS behind"...))
	require.NoError(t, err)
	assert.Equal(t, b, got.Body)

	for _, cut := range [][]byte{b[:len(b)-6], append(append([]byte{}, b[:33]...), 0xff, 0xff, 0xff, 0xff, 'I', 'D', 'A',
		'T', 0, 0, 0, 0), append([]byte{0xff, 0xd8, 0xff, 0xe1, 0, 1}, j.Bytes()[2:]...)} {
		_, err := Clean(cut)
		assert.Error(t, err)
	}
	for _, damaged := range [][]byte{exif[4:][:20], []byte("Exif\x00\x00II\x2a\x00\xff\xff\xff\xff"),
		[]byte("Exif\x00\x00MM\x00\x2a\x00\x00\x00\x08\xff\xff")} {
		assert.Zero(t, wayUp(damaged))
	}
}
