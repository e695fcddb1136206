package cli

import (
	"fmt"
	"strconv"
	"time"

	"hemzo/internal/project"
)

// spanFlag is a duration flag that shows no default.
type spanFlag struct{ d *time.Duration }

func (f *spanFlag) String() string { return "" }
func (f *spanFlag) Type() string   { return "duration" }
func (f *spanFlag) Set(s string) error {
	d, err := project.ParseDuration(s)
	*f.d = d
	return err
}

// numberFlag is a flag for a whole number, zero or more.
type numberFlag struct{ n *int }

func (f *numberFlag) String() string { return "" }
func (f *numberFlag) Type() string   { return "number" }
func (f *numberFlag) Set(s string) error {
	n, err := strconv.Atoi(s)
	if err != nil || n < 0 {
		return fmt.Errorf("%q is not a whole number, zero or more", s)
	}
	*f.n = n
	return nil
}
