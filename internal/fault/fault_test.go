package fault

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestError(t *testing.T) {
	for want, e := range map[string]*Error{
		"it fails":              {What: "it fails"},
		"m.sql: it fails":       {What: "it fails", Where: Position{File: "m.sql"}},
		"m.sql:3: it fails: no": {What: "it fails", Said: "no", Where: Position{File: "m.sql", Line: 3}},
		"m.sql:3:7: it fails: no (42)": {What: "it fails", Said: "no", Code: "42",
			Where: Position{File: "m.sql", Line: 3, Column: 7}},
		"line 3, column 1: it fails (x)": {What: "it fails", Code: "x", Where: Position{Line: 3}},
	} {
		assert.Equal(t, want, e.Error())
	}
}

func TestKindOf(t *testing.T) {
	cause := errors.New("cause")
	refused := New(Refused, "leave it", "%d things", 2)
	refused.Reason = cause
	wrapped := fmt.Errorf("while working: %w", refused)
	assert.Equal(t, Refused, KindOf(wrapped))
	assert.ErrorIs(t, wrapped, cause)
	assert.Equal(t, "while working: 2 things", wrapped.Error())
	assert.Equal(t, Failed, KindOf(cause), "what nobody has judged has failed")
	assert.Equal(t, Failed, KindOf(&Error{What: "x"}))
	assert.Equal(t, StepFailed, KindOf(errors.Join(cause, New(StepFailed, "", "x"))))
}
