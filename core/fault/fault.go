// Package fault holds the errors that all rooms of the house speak, in words for whoever reads them: what is wrong,
// where, and what to do.
package fault

import (
	"errors"
	"fmt"
	"time"
)

// ErrThere is what a check of an edit says where something is to be made and one of its id is there already.
var ErrThere = errors.New("it is there already")

// InvalidError says what is wrong with a field of something that somebody wants.
type InvalidError struct{ Field, Reason string }

func (e *InvalidError) Error() string { return e.Reason }

// Invalid returns an *InvalidError, worded as fmt.Sprintf does.
func Invalid(field, reason string, values ...any) error {
	return &InvalidError{field, fmt.Sprintf(reason, values...)}
}

// AsInvalid is err where it is an *InvalidError already, else one of a field with its words.
func AsInvalid(field string, err error) error {
	var is *InvalidError
	if errors.As(err, &is) {
		return err
	}
	return &InvalidError{field, err.Error()}
}

// NotFoundError says that there is nothing with an id.
type NotFoundError struct {
	What, ID string
	Nearest  []string
}

// NotFound returns a *NotFoundError; nearest are ids that may have been meant.
func NotFound(what, id string, nearest ...string) error { return &NotFoundError{what, id, nearest} }

func (e *NotFoundError) Error() string {
	msg := fmt.Sprintf("there is no %s called %q", e.What, e.ID)
	for i, n := range e.Nearest {
		if i == 0 {
			msg += "; did you mean " + n
		} else {
			msg += " or " + n
		}
	}
	if len(e.Nearest) > 0 {
		msg += "?"
	}
	return msg
}

// ExistsError says that what is to be made would replace something.
type ExistsError struct{ Kind, ID, Name string }

func (e *ExistsError) Error() string {
	return fmt.Sprintf("the %s %s (%s) is there already; choose another id, or change that one", e.Kind, e.ID, e.Name)
}

// TooManyError says that too many wrong tries came.
type TooManyError struct{ Wait time.Duration }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("too many wrong tries; wait %d s and try again", int(e.Wait.Seconds())+1)
}

// DisabledError says that a device's owner has switched it off.
type DisabledError struct{ Device string }

func (e *DisabledError) Error() string { return e.Device + " is disabled; enable it on its page" }

// RemoteError says that what was asked elsewhere did not give what it should.
type RemoteError struct{ Err error }

func (e *RemoteError) Error() string { return e.Err.Error() }
func (e *RemoteError) Unwrap() error { return e.Err }

// UnsavedError says that something was done but could not be stored.
type UnsavedError struct {
	Err  error
	Full bool // the disk
}

func (e *UnsavedError) Error() string {
	if e.Full {
		return "the disk is full: nothing can be stored until there is room"
	}
	return "the store does not take writes: " + e.Err.Error()
}
func (e *UnsavedError) Unwrap() error { return e.Err }
