package place

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
)

// keptList tells which templates lie in a folder that is kept for the next start of
// a server. It is for listings alone: what is really there, the server tells.
type keptList struct {
	Folder    string         `json:"folder"`
	Saved     time.Time      `json:"saved"` // when the folder was last changed
	Templates []engine.Entry `json:"templates"`
}

func keptListFile(kept, identity string) string {
	return filepath.Join(kept, "templates-"+identity+".json")
}

// writeKeptList notes which templates a folder holds that was just saved. What goes
// wrong with it costs a listing no more than what it tells.
func (r record) writeKeptList(saved string, templates []engine.Entry) {
	info, err := os.Stat(saved)
	if err != nil {
		return
	}
	b, err := json.Marshal(keptList{Folder: saved, Saved: info.ModTime(), Templates: templates})
	if err == nil {
		_ = folder.Replace(keptListFile(r.Kept, r.Identity), b)
	}
}

// listTemplates lists the templates of a server that is about to end.
func (g *guard) listTemplates(ctx context.Context, address json.RawMessage) (all []engine.Entry) {
	s, err := g.engine.Hosting().Connect(ctx, address, engine.Patience{})
	if err != nil {
		return nil
	}
	defer s.Close()
	entries, err := s.List(ctx, engine.Template)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if !e.Newer && !e.Bad {
			e.Facts.Baseline, e.Facts.Private = nil, nil
			all = append(all, e)
		}
	}
	return all
}

// KeptTemplates lists the templates that the private server of a database will
// have when it is started, as far as that is known.
func KeptTemplates(e engine.Engine, w Wanted) []engine.Entry {
	h := hostOf(e, "memory", "", nil)
	kept, err := keptFolder()
	if h == nil || err != nil || !slices.Contains(w.Where, "memory") {
		return nil
	}
	identity, err := h.identity(w.Spec)
	if err != nil {
		return nil
	}
	var list keptList
	b, err := os.ReadFile(keptListFile(filepath.Join(kept, e.Name()), identity))
	if err != nil || json.Unmarshal(b, &list) != nil {
		return nil
	}
	// Saved anew, or removed, since.
	if info, err := os.Stat(list.Folder); err != nil || !info.ModTime().Equal(list.Saved) {
		return nil
	}
	return list.Templates
}
