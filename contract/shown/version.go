package shown

import (
	"encoding/json"
	"hash/fnv"
	"strconv"
)

// Version tells two states of a record's settings apart, for edits that must not undo somebody else's.
func Version(settings any) string {
	sum := fnv.New64a()
	_ = json.NewEncoder(sum).Encode(settings) // plain settings; a hash does not fail
	return strconv.FormatUint(sum.Sum64(), 36)
}
