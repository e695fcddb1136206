package engine

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNames(t *testing.T) {
	for _, kind := range []Kind{Copy, Kept, Work} {
		id := NewID(kind)
		got, ours := KindOf(id)
		assert.True(t, ours, id)
		assert.Equal(t, kind, got)
		assert.NotEqual(t, id, NewID(kind))
	}
	id := TemplateID(strings.Repeat("0a", 32))
	got, ours := KindOf(id)
	assert.True(t, ours)
	assert.Equal(t, Template, got)
	for _, name := range []string{"", "hemzo", "hemzo_c_", "hemzo_c_xyz", "hemzo_c_123", "hemzo_q_0123456789",
		"HEMZO_c_0123456789", "hemzo_c_0123456789.db", "postgres"} {
		_, ours := KindOf(name)
		assert.False(t, ours, name)
	}
}

func TestSound(t *testing.T) {
	assert.False(t, Facts{}.Sound())
	assert.False(t, Facts{Format: 1, Steps: make([]StepFact, 2)}.Sound(), "more steps than layers")
	assert.True(t, Facts{Format: 1, Layer: 5, Steps: make([]StepFact, 2)}.Sound())
}
