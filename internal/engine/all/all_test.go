package all_test

import (
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/engine/fake"
	"hemzo/internal/fault"
)

// known are the engines that a registry could hold.
var known = slices.Concat(all.Engines(), []engine.Engine{
	fake.Engine{},
})

// TestRegistry: names are told apart, each engine can be somewhere, and what it
// says of its places goes together.
func TestRegistry(t *testing.T) {
	names, fallbacks := map[string]bool{}, 0
	for _, e := range known {
		assert.False(t, names[e.Name()], e.Name())
		names[e.Name()] = true
		if e.Traces().Fallback {
			fallbacks++
		}
		h := e.Hosting()
		server := h.Process != nil || h.Container != nil
		assert.True(t, server || h.Embedded != nil || h.Existing != nil, "%s can be nowhere", e.Name())
		assert.Equal(t, server, h.Connect != nil || h.PerCopy != nil,
			"%s: a server that is started is connected to, or is one for each copy", e.Name())
		assert.False(t, h.Embedded != nil && h.Process != nil, "%s: memory would mean two places", e.Name())
		if l := e.Language(); l.Name != "" {
			assert.NotEmpty(t, l.Ext)
			assert.Equal(t, slices.Collect(l.Statements("x")), slices.Collect(l.Statements("x")))
		}
		assert.NotEmpty(t, e.Fingerprint(engine.Spec{}))
	}
	assert.Equal(t, 1, fallbacks)
	_, err := all.Named("honey")
	assert.Contains(t, next(err), "this version has sqlite, postgres, mariadb, mysql, redis and service")
	e, err := all.ForURL("postgres://db.internal/shop")
	assert.NoError(t, err)
	assert.Equal(t, "postgres", e.Name())
	_, err = all.ForURL("honey://x")
	assert.Contains(t, next(err), "URLs begin with postgresql, postgres")
}

func next(err error) string {
	f, _ := errors.AsType[*fault.Error](err)
	return f.Next
}
