package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestDiffering: a table that was touched and holds what it held is nothing
// that was left behind; by pages the rows are not counted.
func TestDiffering(t *testing.T) {
	touched, altered := TableReport{Name: "hive"}, TableReport{Name: "member", Removed: 1, PutBack: 1}
	r := Report{Way: Truncation, Tables: []TableReport{touched, altered}}
	assert.Equal(t, []TableReport{altered}, r.Differing())
	assert.Len(t, r.Tables, 2)
	assert.True(t, r.Differed())
	r.Tables = []TableReport{touched}
	assert.False(t, r.Differed())
	r.Sequences = 1
	assert.True(t, r.Differed())
	r = Report{Way: Snapshot, Tables: []TableReport{touched}}
	assert.Equal(t, []TableReport{touched}, r.Differing())
	assert.True(t, r.Differed())
	assert.False(t, (&Report{}).Differed())
}
