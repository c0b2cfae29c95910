//go:build !linux

package state

import "errors"

// As does something with the rights of the owner to files. Here a program can't take those of another user for a while,
// so it refuses; the zero owner is whoever runs the program.
func As(o Owner, do func() error) error {
	if o != (Owner{}) {
		return errors.New(
			"this system can't keep the program to the rights of the user who called sudo; run it without sudo",
		)
	}
	return do()
}
