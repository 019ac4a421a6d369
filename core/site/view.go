package site

import (
	"fmt"
	"regexp"
)

// View is a stretch of charts that somebody gave a name.
type View struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	View   string `json:"view"`             // what stands behind the ? in the console's address
	Shared bool   `json:"shared,omitempty"` // everybody in the household finds it
	By     string `json:"by"`               // the account of who made it
}

var viewText = regexp.MustCompile(`^[\w.,=&%~+-]+$`)

// Validate says in a sentence what is wrong with the view, or returns nil.
func (v View) Validate() error {
	if len(v.View) > 2000 || !viewText.MatchString(v.View) {
		return fmt.Errorf("the view is not what stands behind the ? in the address of charts")
	}
	return nil
}
