package postgres

import (
	"encoding/json"
	"reflect"
	"time"

	"hemzo/internal/engine"
)

// private is what the facts of a database tell this engine alone.
type private struct {
	Carry json.RawMessage `json:"carry,omitempty"` // what is put on every copy beside its files
	// Birth is the transaction, the database's number and the position in the log
	// at which a copy was made.
	Birth  string    `json:"birth,omitempty"`
	Source time.Time `json:"source,omitzero"` // when what a copy was copied from was made
	// Visits counts the sessions of Hemzo's commands in a copy that a run watches.
	Visits int64 `json:"visits,omitempty"`
}

// privateOf reads the private part of facts. One that cannot be read counts as
// none: what is missing then is found out.
func privateOf(f engine.Facts) (p private) {
	_ = json.Unmarshal(f.Private, &p)
	return p
}

// changePrivate changes the private part of facts.
func changePrivate(f *engine.Facts, change func(*private)) {
	p := privateOf(*f)
	change(&p)
	f.Private = nil
	if !reflect.ValueOf(p).IsZero() {
		f.Private, _ = json.Marshal(p) // of texts and a time
	}
}
