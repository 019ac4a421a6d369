package engine

import (
	"bytes"
	"compress/flate"
	"encoding/json"
	"fmt"
	"io"
	"sync"
)

// tapeWords is what recorded inputs mostly consist of. It is the preset dictionary of the compression (RFC 1950, section
// 2.2), so that even a single input packs well. Changing it makes earlier tapes unreadable.
const tapeWords = `"},"kind":"engine.SiteChanged","in":{"Site":{"Hub":{"name":"","latitude":,"longitude":,"zone":""},"Places":[{"id":"","name":""` +
	`"kind":"engine.Tick","in":{}},{"now":{"wall":"20"kind":"engine.Command","in":{"Control":"","On":false,"Actor":{"kind":"person","id":"","name":"","role":"owner","from":"127.0.0.1"}}}` +
	`"kind":"engine.Online","in":{"Device":"","Session":"mqtt-","From":""}"kind":"engine.Offline","in":{"Device":"","Session":"mqtt-","Why":""}` +
	`"kind":"engine.Report","in":{"Control":"","Session":"mqtt-","On":true,"By":""}}` +
	`,"mono":,"trusted":true},"kind":"engine.Reading","in":{"Signal":"","Stamp":"0001-01-01T00:00:00Z","Newest":false,"Value":true}},` +
	`{"now":{"wall":"2026-T:00:00.000Z","mono":,"trusted":true},"kind":"engine.Reading","in":{"Signal":".temperature","Stamp":"0001-01-01T00:00:00Z","Newest":true,"Value":}}]`

var packers = sync.Pool{New: func() any {
	w, err := flate.NewWriterDict(io.Discard, flate.BestSpeed, []byte(tapeWords))
	if err != nil {
		panic(err) // cannot be: the level is valid
	}
	return w
}}

// Pack makes one small piece of tape of inputs: JSON, compressed with DEFLATE (RFC 1951) and a preset dictionary.
func Pack(inputs []Recorded) ([]byte, error) {
	raw, err := json.Marshal(inputs)
	if err != nil {
		return nil, fmt.Errorf("engine: pack: %w", err)
	}
	var out bytes.Buffer
	w := packers.Get().(*flate.Writer)
	defer packers.Put(w)
	w.Reset(&out)
	if _, err := w.Write(raw); err != nil {
		return nil, fmt.Errorf("engine: pack: %w", err)
	}
	if err := w.Close(); err != nil {
		return nil, fmt.Errorf("engine: pack: %w", err)
	}
	return out.Bytes(), nil
}

// Unpack is the inverse of Pack.
func Unpack(piece []byte) ([]Recorded, error) {
	raw, err := io.ReadAll(flate.NewReaderDict(bytes.NewReader(piece), []byte(tapeWords)))
	if err != nil {
		return nil, fmt.Errorf("engine: unpack: %w", err)
	}
	var inputs []Recorded
	if err := json.Unmarshal(raw, &inputs); err != nil {
		return nil, fmt.Errorf("engine: unpack: %w", err)
	}
	return inputs, nil
}
