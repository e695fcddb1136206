package engine

import (
	"math"
	"strconv"
	"time"
)

// Milliseconds is a duration that JSON has as a number of milliseconds, with
// three digits behind the point at most.
type Milliseconds time.Duration

// MarshalJSON writes the number.
func (m Milliseconds) MarshalJSON() ([]byte, error) {
	ms := math.Round(float64(m)/1e3) / 1e3
	return strconv.AppendFloat(nil, ms, 'f', -1, 64), nil
}

// UnmarshalJSON reads the number.
func (m *Milliseconds) UnmarshalJSON(b []byte) error {
	ms, err := strconv.ParseFloat(string(b), 64)
	*m = Milliseconds(ms * 1e6)
	return err
}
