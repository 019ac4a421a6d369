package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"idleember/core/site"
)

// digestTold is until when digests were told, or since when one is wished for as it is.
type digestTold struct {
	Until time.Time
	Of    site.Digest
}

const digestState = "digest told"

var hubKey = site.Key{Kind: "hub"}

// MarkDigest keeps until when digests were told, or since when one is wished for as it is.
func MarkDigest(until time.Time, of site.Digest) Change {
	b, _ := json.Marshal(digestTold{until, of}) // plain fields
	return SaveSecret(hubKey, digestState, string(b))
}

// DigestTold reads what MarkDigest kept; zero values where nothing was.
func (s *Store) DigestTold(ctx context.Context) (time.Time, site.Digest, error) {
	var x digestTold
	kept, err := s.Secret(ctx, hubKey, digestState)
	if err == nil && kept != "" {
		err = json.Unmarshal([]byte(kept), &x)
	}
	if err != nil {
		err = fmt.Errorf("store: until when digests were told: %w", err)
	}
	return x.Until, x.Of, err
}
