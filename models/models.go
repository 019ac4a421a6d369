// Package models holds the device models that ship with the hub.
package models

import (
	"embed"
	"encoding/json"
	"fmt"

	"idleember/core/site"
)

//go:embed *.json
var files embed.FS

// All returns the models in order of their ids.
func All() ([]site.Model, error) {
	entries, err := files.ReadDir(".")
	if err != nil {
		return nil, err
	}
	var out []site.Model
	for _, e := range entries {
		b, err := files.ReadFile(e.Name())
		if err != nil {
			return nil, err
		}
		var m site.Model
		if err := json.Unmarshal(b, &m); err != nil {
			return nil, fmt.Errorf("models: %s: %w", e.Name(), err)
		}
		if err := m.Validate(); err != nil {
			return nil, fmt.Errorf("models: %s: %w", e.Name(), err)
		}
		out = append(out, m)
	}
	return out, nil
}
