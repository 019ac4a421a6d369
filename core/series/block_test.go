package series

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"idleember/core/site"
)

// same compares bit for bit.
func same(t require.TestingT, want, got *Columns) {
	require.Equal(t, want.Kind, got.Kind)
	require.Equal(t, want.T, got.T)
	require.Equal(t, want.Text, got.Text)
	require.Equal(t, want.Q, got.Q)
	bitsOf := func(list []float64) (out []uint64) {
		for _, v := range list {
			out = append(out, math.Float64bits(v))
		}
		return out
	}
	require.Equal(t, bitsOf(want.V), bitsOf(got.V))
	require.Equal(t, bitsOf(want.Raw), bitsOf(got.Raw))
}

var awkward = []float64{0, math.Copysign(0, -1), 1, -1, math.SmallestNonzeroFloat64, -math.SmallestNonzeroFloat64,
	math.MaxFloat64, -math.MaxFloat64,
	0x1p-1022, math.Pi, 1e300, 9007199254740993, -9007199254740992, 4503599627370497.5, 0.1, 21.4, -0.3, 1e-9, 1e9,
	123456.789012}

func anyColumns(t *rapid.T) *Columns {
	n := rapid.IntRange(1, 400).Draw(t, "n")
	c := &Columns{Kind: rapid.SampledFrom([]site.ValueKind{site.Number, site.OnOff, site.Text}).Draw(t, "kind")}
	step := rapid.SampledFrom([]int64{1, 1000, 10_000, 86_400_000}).Draw(t, "step")
	jitter := rapid.SampledFrom([]int64{0, 0, 50, 100_000}).Draw(t, "jitter")
	at := rapid.Int64Range(-4e12, 4e12).Draw(t, "t0")
	flavour := rapid.SampledFrom([]string{"decimals", "awkward", "floats", "bits"}).Draw(t, "flavour")
	rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
	for range n {
		at += step
		if jitter > 0 {
			at += rng.Int64N(jitter)
		}
		if rng.IntN(50) == 0 {
			at += step * rng.Int64N(1000)
		}
		c.T = append(c.T, at)
		switch {
		case c.Kind == site.Text:
			c.Text = append(c.Text, fmt.Sprint("word", rng.IntN(5)))
		case c.Kind == site.OnOff:
			c.V = append(c.V, float64(rng.IntN(2)))
		case flavour == "decimals":
			c.V = append(c.V, float64(rng.IntN(500)-100)/10)
		case flavour == "awkward":
			c.V = append(c.V, awkward[rng.IntN(len(awkward))])
		case flavour == "floats":
			c.V = append(c.V, 20+rng.NormFloat64())
		default:
			v := math.Float64frombits(rng.Uint64())
			for v != v || math.IsInf(v, 0) {
				v = math.Float64frombits(rng.Uint64())
			}
			c.V = append(c.V, v)
		}
	}
	if rapid.Bool().Draw(t, "quality") {
		for range n {
			c.Q = append(c.Q, byte(rng.IntN(3)))
		}
	}
	if c.Kind == site.Number && rapid.Bool().Draw(t, "raw") {
		for range n {
			v := float64(rng.IntN(1024))
			if rng.IntN(3) == 0 {
				v = math.NaN()
			}
			c.Raw = append(c.Raw, v)
		}
	}
	return c
}

func TestEveryValueComesBackBitForBit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var enc, dec Codec
		var got Columns
		for range 2 { // the memory is used again
			c := anyColumns(t)
			block := enc.Encode([]byte("before"), c)
			require.NoError(t, dec.Decode(&got, block[6:]))
			same(t, c, &got)
		}
	})
}

// Far below zero the rounding to whole numbers leaves halves: none may be cut off.
func TestHalvesFarBelowZero(t *testing.T) {
	c := &Columns{Kind: site.Number}
	for i, v := range []float64{math.Float64frombits(0xc2ebd773e8d2ed52), -2251799813685248.5, -4503599627370495.5,
		-225179981368524.85, -2345678.1234567897, -3000000.1234567891, 4503599627370495.5, -9007199254740992} {
		c.T, c.V = append(c.T, int64(i)*1000), append(c.V, v)
		one := &Columns{Kind: site.Number, T: []int64{0}, V: []float64{v}}
		for _, c := range []*Columns{one, c} {
			var codec Codec
			var got Columns
			require.NoError(t, codec.Decode(&got, codec.Encode(nil, c)))
			same(t, c, &got)
		}
	}
}

func FuzzFloats(f *testing.F) {
	for _, v := range awkward {
		f.Add(math.Float64bits(v), math.Float64bits(v+1), int64(1000), int64(-7))
	}
	f.Fuzz(func(t *testing.T, a, b uint64, t0, dt int64) {
		x, y := math.Float64frombits(a), math.Float64frombits(b)
		if x != x || y != y {
			return
		}
		t0 %= 1 << 45
		dt = max(dt, -dt)%(1<<40) + 1
		c := &Columns{Kind: site.Number, T: []int64{t0, t0 + dt, t0 + 2*dt, t0 + 2*dt + 1}, V: []float64{x, y, y, x}}
		var codec Codec
		var got Columns
		require.NoError(t, codec.Decode(&got, codec.Encode(nil, c)))
		same(t, c, &got)
	})
}

// Whatever stands in a block, reading it ends with an error at worst.
func FuzzDamage(f *testing.F) {
	var codec Codec
	for _, c := range []*Columns{regular(300, "temperature", 0), regular(300, "relay", 50), {Kind: site.Text,
		T: []int64{1, 2}, Text: []string{"a", "b"}},
		{Kind: site.Number, T: []int64{5, 9}, V: []float64{math.Pi, math.E}, Q: []byte{0, 2}, Raw: []float64{math.NaN(),
			7}}} {
		f.Add(codec.Encode(nil, c))
	}
	f.Fuzz(func(t *testing.T, block []byte) {
		var got Columns
		if len(block) > 4 { // with a sum that is right, so that what follows is looked at
			body := block[:len(block)-4]
			block = binary.LittleEndian.AppendUint32(body[:len(body):len(body)], crc32.Checksum(body, castagnoli))
		}
		if err := codec.Decode(&got, block); err == nil {
			require.Equal(t, len(got.T), max(len(got.V), len(got.Text)))
		}
	})
}

func TestDamageIsSeen(t *testing.T) {
	var codec Codec
	block := codec.Encode(nil, regular(500, "temperature", 50))
	var got Columns
	for i := range block {
		bad := append([]byte(nil), block...)
		bad[i] ^= 1 << (i % 8)
		assert.ErrorIs(t, codec.Decode(&got, bad), ErrDamaged)
		assert.ErrorIs(t, codec.Decode(&got, block[:i]), ErrDamaged)
	}
}

// regular makes what a sensor sends every 10 s, with a jitter in ms.
func regular(n int, what string, jitter int64) *Columns {
	rng := rand.New(rand.NewPCG(uint64(n), 3))
	c := &Columns{Kind: site.Number}
	at, v, slow := int64(1_790_000_000_000), 0.0, 0.0
	for i := range n {
		off := int64(0)
		if jitter > 0 {
			off = rng.Int64N(2*jitter) - jitter
		}
		c.T = append(c.T, at+int64(i)*10_000+off)
		slow += (math.Sin(float64(i)/2000)*3 - slow) / 400
		switch what {
		case "temperature":
			v = math.Round((21+slow+0.03*rng.NormFloat64())*10) / 10
		case "humidity":
			v = math.Round((55+4*slow+0.2*rng.NormFloat64())*2) / 2
		case "pressure":
			v = math.Round((1013+slow+0.02*rng.NormFloat64())*100) / 100
		case "count":
			v += float64(rng.IntN(3))
		case "relay":
			c.Kind = site.OnOff
			if rng.IntN(180) == 0 {
				v = 1 - v
			}
		}
		c.V = append(c.V, v)
	}
	return c
}

var sorts = []string{"temperature", "humidity", "pressure", "count", "relay"}

func TestSizeOfBlocks(t *testing.T) {
	for _, jitter := range []int64{0, 50} {
		total := 0
		for _, what := range sorts {
			var codec Codec
			size := len(codec.Encode(nil, regular(5000, what, jitter)))
			t.Logf("%s, jitter ±%d ms: %.3f bytes a reading", what, jitter, float64(size)/5000)
			total += size
		}
		per := float64(total) / 5000 / float64(len(sorts))
		assert.Less(t, per, map[int64]float64{0: 0.6, 50: 1.45}[jitter])
	}
}

func BenchmarkCodec(b *testing.B) {
	const n = 4096
	var blocks [][]byte
	var all []*Columns
	for _, what := range sorts {
		var codec Codec
		c := regular(n, what, 0)
		all, blocks = append(all, c), append(blocks, codec.Encode(nil, c))
	}
	report := func(b *testing.B) {
		b.ReportMetric(float64(b.N)*n*float64(len(sorts))/b.Elapsed().Seconds()/1e6, "Mreadings/s")
		b.ReportMetric(0, "ns/op")
	}
	b.Run("decode", func(b *testing.B) {
		var codec Codec
		var got Columns
		for range b.N {
			for _, block := range blocks {
				_ = codec.Decode(&got, block)
			}
		}
		report(b)
	})
	b.Run("encode", func(b *testing.B) {
		var codec Codec
		var buf []byte
		for range b.N {
			for _, c := range all {
				buf = codec.Encode(buf[:0], c)
			}
		}
		report(b)
	})
}
