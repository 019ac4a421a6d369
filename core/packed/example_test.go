package packed_test

import (
	"encoding/binary"
	"fmt"

	"idleember/core/packed"
)

// Reading on after the end gives zeros, and says so once at the end.
func ExampleReader() {
	r := packed.Reader{B: binary.AppendVarint(binary.AppendUvarint(nil, 300), -5)}
	fmt.Println(r.Uvarint(), r.Varint(), r.Broken)
	fmt.Println(r.Uvarint(), r.Broken)
	// Output:
	// 300 -5 false
	// 0 true
}
