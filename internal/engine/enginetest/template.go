package enginetest

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hemzo/internal/engine"
	"hemzo/internal/place"
)

// Template is a template of all steps of a subject, and its server.
type Template struct {
	Server engine.Server
	ID     string
	facts  engine.Facts
}

// NewTemplate opens the servers of a subject and makes the template. Home is called before.
func NewTemplate(t testing.TB, s Subject) *Template {
	w := s.Wanted
	w.Database, w.Spec, w.Ready = "honey", s.Spec, time.Minute
	server, err := place.Open(t.Context(), s.Engine, w)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Close()) })
	m := &Template{Server: server, ID: engine.TemplateID(strings.Repeat("0", 64))}
	m.facts = engine.Facts{Format: engine.Format, Database: "honey", Start: m.ID}
	work := CreateWork(t, server, s.Spec, m.facts)
	d, err := server.Open(t.Context(), work, engine.Session{})
	require.NoError(t, err)
	for _, text := range s.Steps {
		require.NoError(t, d.Apply(t.Context(), engine.Script{File: "steps", Text: text, First: 1}))
	}
	require.NoError(t, d.Close())
	require.NoError(t, server.Rename(t.Context(), work, m.ID, m.facts))
	return m
}

// Take makes a copy, which goes with the test.
func (m *Template) Take(t testing.TB) engine.Entry {
	id := engine.NewID(engine.Copy)
	require.NoError(t, m.Server.Copy(t.Context(), m.ID, id, m.facts))
	e, err := m.Server.Find(t.Context(), id)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, m.Server.Drop(context.Background(), id)) })
	return e
}
