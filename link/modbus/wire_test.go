package modbus

import (
	"bytes"
	"errors"
	"io"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/site"
)

// The examples of the MODBUS Application Protocol Specification V1.1b3, sections 6.1 to 6.12.
func TestFramesOfTheSpecification(t *testing.T) {
	for _, tt := range []struct {
		name string
		got  []byte
		want []byte
	}{
		{"read coils 20 to 38", readRequest(site.Coil, 0x13, 19), []byte{0x01, 0x00, 0x13, 0x00, 0x13}},
		{"read discrete inputs 197 to 218", readRequest(site.Discrete, 0xc4, 22), []byte{0x02, 0x00, 0xc4, 0x00, 0x16}},
		{"read holding registers 108 to 110", readRequest(site.Holding, 0x6b, 3), []byte{0x03, 0x00, 0x6b, 0x00, 0x03}},
		{"read input register 9", readRequest(site.Input, 8, 1), []byte{0x04, 0x00, 0x08, 0x00, 0x01}},
		{"write coil 173 on", writeRequest(site.Coil, 0xac, []uint16{1}), []byte{0x05, 0x00, 0xac, 0xff, 0x00}},
		{"write register 2", writeRequest(site.Holding, 1, []uint16{3}), []byte{0x06, 0x00, 0x01, 0x00, 0x03}},
		{"write ten coils from 20", writeRequest(site.Coil, 0x13, []uint16{1, 0, 1, 1, 0, 0, 1, 1, 1, 0}), []byte{0x0f, 0x00,
			0x13, 0x00, 0x0a, 0x02, 0xcd, 0x01}},
		{"write two registers from 2", writeRequest(site.Holding, 1, []uint16{0x0a, 0x0102}), []byte{0x10, 0x00, 0x01, 0x00,
			0x02, 0x04, 0x00, 0x0a, 0x01, 0x02}},
	} {
		assert.Equal(t, tt.want, tt.got, tt.name)
	}
	bits, err := readAnswer(readRequest(site.Coil, 0x13, 19), []byte{0x01, 0x03, 0xcd, 0x6b, 0x05})
	require.NoError(t, err)
	assert.Equal(t, []uint16{1, 0, 1, 1, 0, 0, 1, 1, 1, 1, 0, 1, 0, 1, 1, 0, 1, 0, 1}, bits)
	words, err := readAnswer(readRequest(site.Holding, 0x6b, 3), []byte{0x03, 0x06, 0x02, 0x2b, 0x00, 0x00, 0x00, 0x64})
	require.NoError(t, err)
	assert.Equal(t, []uint16{0x022b, 0, 0x64}, words)
	_, err = readAnswer(readRequest(site.Holding, 0, 1), []byte{0x83, 2})
	assert.ErrorIs(t, err, IllegalAddress)
	assert.ErrorContains(t, err, "no such register")
	_, err = readAnswer(readRequest(site.Holding, 0, 2), []byte{0x03, 2, 0, 1})
	assert.ErrorContains(t, err, "2 bytes instead of 4")
	_, err = readAnswer(readRequest(site.Holding, 0, 1), []byte{0x04, 2, 0, 1})
	assert.ErrorIs(t, err, errFrame)
}

func TestNumbers(t *testing.T) {
	for _, tt := range []struct {
		r     site.Register
		words []uint16
		v     float64
	}{
		{site.Register{Table: site.Input}, []uint16{65535}, 65535},
		{site.Register{Table: site.Input, Type: "s16", Scale: 0.1}, []uint16{0xff9c}, -10},
		{site.Register{Table: site.Input, Type: "u16", Scale: 0.1}, []uint16{217}, 21.7},
		{site.Register{Table: site.Holding, Type: "u32"}, []uint16{0x0001, 0x0002}, 65538},
		{site.Register{Table: site.Holding, Type: "u32", Swap: true}, []uint16{0x0002, 0x0001}, 65538},
		{site.Register{Table: site.Holding, Type: "s32"}, []uint16{0xffff, 0xfffe}, -2},
		{site.Register{Table: site.Holding, Type: "f32"}, []uint16{0x41ac, 0x0000}, 21.5},
		{site.Register{Table: site.Coil}, []uint16{1}, 1},
	} {
		assert.Equal(t, tt.v, decode(tt.r, tt.words), "%+v", tt.r)
		words, err := encode(tt.r, tt.v)
		require.NoError(t, err)
		assert.Equal(t, tt.words, words, "%+v", tt.r)
	}
	_, err := encode(site.Register{Table: site.Holding}, 70000)
	assert.ErrorContains(t, err, "does not fit")
	rapid.Check(t, func(t *rapid.T) {
		r := site.Register{Table: site.Holding, Type: rapid.SampledFrom([]string{"u16", "s16", "u32", "s32", "f32"}).Draw(t,
			"type"), Swap: rapid.Bool().Draw(t, "swap")}
		words := rapid.SliceOfN(rapid.Uint16(), r.Words(), r.Words()).Draw(t, "words")
		v := decode(r, words)
		if v != v { // not a number
			return
		}
		back, err := encode(r, v)
		if err != nil || decode(r, back) != v {
			t.Fatalf("%v became %v (%v)", words, back, err)
		}
	})
}

func TestNeighboursAreReadTogether(t *testing.T) {
	p := func(table site.Table, at int, kind string) point {
		return point{Register: site.Register{Table: table, Address: at, Type: kind}}
	}
	got := blocks([]point{p(site.Input, 4, ""), p(site.Input, 1, "u32"), p(site.Input, 0, ""), p(site.Input, 3, "s16"),
		p(site.Input, 9, ""), p(site.Coil, 5, ""), p(site.Coil, 6, "")})
	var text []string
	for _, b := range got {
		text = append(text, b.String())
	}
	assert.Equal(t, []string{"read coil 5 to 6", "read input 0 to 4", "read input 9"}, text)
	var many []point
	for i := range 300 {
		many = append(many, p(site.Holding, i, ""))
	}
	assert.Len(t, blocks(many), 3, "no more than 125 words in one request")
	list := []write{{table: site.Coil, address: 3, words: []uint16{1}}, {table: site.Coil, address: 2, words: []uint16{0}},
		{table: site.Holding, address: 4, words: []uint16{7}}}
	joint := joined(list)
	require.Len(t, joint, 2)
	assert.Equal(t, []uint16{0, 1}, joint[0].words)
	assert.Equal(t, []uint16{7}, joint[1].words)
	require.Len(t, joint[0].parts, 2, "each is remembered, for devices that refuse several")
	assert.Equal(t, []uint16{0}, joint[0].parts[0].words)
	assert.Equal(t, []uint16{1}, joint[0].parts[1].words)
}

// shelf is a bank of ten words and ten bits.
type shelf struct{ words, bits [10]uint16 }

func (s *shelf) Read(_ byte, t site.Table, address, n int) ([]uint16, error) {
	from := s.words[:]
	if t == site.Coil || t == site.Discrete {
		from = s.bits[:]
	}
	if address+n > len(from) {
		return nil, IllegalAddress
	}
	return append([]uint16{}, from[address:address+n]...), nil
}

func (s *shelf) Write(_ byte, t site.Table, address int, words []uint16) error {
	to := s.words[:]
	if t == site.Coil {
		to = s.bits[:]
	}
	if address+len(words) > len(to) {
		return IllegalAddress
	}
	if words[0] == 666 {
		return errors.New("broken")
	}
	copy(to[address:], words)
	return nil
}

// No request, however malformed, gets anything but an answer of its own function or an exception.
func FuzzServer(f *testing.F) {
	for _, pdu := range [][]byte{readRequest(site.Coil, 0, 9), readRequest(site.Holding, 0, 3), writeRequest(site.Coil, 1,
		[]uint16{1}),
		writeRequest(site.Holding, 1, []uint16{1, 2}), {0x2b, 0x0e, 1, 0, 0}, {3}, {16, 0, 0, 0, 2, 4, 0}, {3, 0, 0, 0xff,
			0xff}, {6, 0, 0, 2, 154}} {
		f.Add(pdu)
	}
	f.Fuzz(func(t *testing.T, pdu []byte) {
		if len(pdu) == 0 || len(pdu) > maxPDU {
			return
		}
		s := &Server{bank: &shelf{}}
		out := s.answer(1, pdu)
		assert.LessOrEqual(t, len(out), maxPDU)
		if out[0] != pdu[0] {
			assert.Equal(t, pdu[0]|0x80, out[0])
			assert.Len(t, out, 2)
		}
	})
}

func FuzzFrames(f *testing.F) {
	var b bytes.Buffer
	require.NoError(f, writeFrame(&b, 7, 1, []byte{3, 0, 0, 0, 1}))
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		_, _, pdu, err := readFrame(bytes.NewReader(raw))
		if err == nil {
			assert.LessOrEqual(t, len(pdu), maxPDU)
			_, _ = readAnswer(readRequest(site.Holding, 0, 1), pdu)
		}
	})
}

func TestAllowed(t *testing.T) {
	may := allowed([]string{"192.168.1.30", "10.0.0.0/24"})
	at := func(ip string) net.Addr { return &net.TCPAddr{IP: net.ParseIP(ip), Port: 1} }
	assert.True(t, may(at("192.168.1.30")))
	assert.True(t, may(at("10.0.0.77")))
	assert.False(t, may(at("10.0.1.1")))
	assert.False(t, may(at("127.0.0.1")))
}

type tens struct{}

func (tens) Read(_ byte, _ site.Table, address, n int) ([]uint16, error) {
	return slices.Repeat([]uint16{uint16(address)}, n), nil
}
func (tens) Write(byte, site.Table, int, []uint16) error { return nil }

// A panel that opens connections and forgets them takes none from another one, and gets new ones itself.
func TestAPanelTakesNoConnectionsFromOthers(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := Serve(panelDoor().Guard(l), tens{}, allowed([]string{"127.0.0.0/8"}))
	defer s.Close()
	dial := func(from string) net.Conn {
		c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	reads := func(c net.Conn) bool {
		_, _ = c.Write([]byte{0, 1, 0, 0, 0, 6, 1, 3, 0, 10, 0, 1})
		_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
		answer := make([]byte, 11)
		_, err := io.ReadFull(c, answer)
		return err == nil && answer[10] == 10
	}
	for range 5 * mostClients {
		dial("127.0.0.1")
	}
	assert.Eventually(t, func() bool { return reads(dial("127.0.0.2")) }, 10*time.Second, 100*time.Millisecond)
	assert.Eventually(t, func() bool { return reads(dial("127.0.0.1")) }, 10*time.Second, 100*time.Millisecond)
}
