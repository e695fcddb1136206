package engine

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"hemzo/internal/fault"
)

// Format is the version of Hemzo's own marks: names, facts, layers.
const Format = 2

// Kind tells what a name on a server stands for.
type Kind string

// The kinds of things that bear Hemzo's mark.
const (
	Template Kind = "template"
	Copy     Kind = "copy"
	Kept     Kind = "snapshot"
	Work     Kind = "work"
	// Reference is a copy of a start state that rows are read from, shared by all.
	Reference Kind = "reference"
)

// In reports whether a kind is among those that were asked for: none were, and all are.
func (k Kind) In(asked []Kind) bool { return len(asked) == 0 || slices.Contains(asked, k) }

var prefixes = map[Kind]string{Template: "hemzo_t_", Copy: "hemzo_c_", Kept: "hemzo_s_", Work: "hemzo_w_",
	Reference: "hemzo_r_"}

// Prefix is how the names of a kind begin.
func (k Kind) Prefix() string { return prefixes[k] }

// KindOf returns what a name stands for; false where it is not Hemzo's.
func KindOf(id string) (Kind, bool) {
	for kind, prefix := range prefixes {
		digits, ok := strings.CutPrefix(id, prefix)
		if ok && len(digits) >= 10 && strings.Trim(digits, "0123456789abcdef") == "" {
			return kind, true
		}
	}
	return "", false
}

// TemplateID is the name of the template of a layer.
func TemplateID(fingerprint string) string { return prefixes[Template] + fingerprint[:12] }

// NewID returns a new name for a copy, a snapshot or work.
func NewID(kind Kind) string {
	b := make([]byte, 6)
	rand.Read(b)
	digits := hex.EncodeToString(b)
	if kind != Work {
		digits = digits[:10]
	}
	return prefixes[kind] + digits
}

// Facts is what is known of a template, copy or snapshot. It lives with what
// it describes.
type Facts struct {
	Format      int    `json:"format"`
	Database    string `json:"database"`
	Engine      string `json:"engine"`
	Name        string `json:"name,omitempty"` // a copy's or a snapshot's
	Scope       Scope  `json:"scope"`
	Fingerprint string `json:"fingerprint"` // of the layer
	Layer       int    `json:"layer"`       // how many steps led to it
	// all of them in order; a layer kept below a head names its last ones only
	Steps []StepFact `json:"steps,omitempty"`
	Owner Owner      `json:"owner"`
	// who tests connect as, as in the project file; "" for the owner
	Role string    `json:"role,omitempty"`
	Made time.Time `json:"made"`
	// in bytes, of what an engine cannot tell cheaply
	Size     int64           `json:"size,omitempty"`
	Used     time.Time       `json:"used,omitzero"`      // when a template was last copied
	Swept    bool            `json:"swept,omitempty"`    // it is about to be removed, unless a copy needs it by now
	Start    string          `json:"start,omitempty"`    // what holds a copy's start state
	Of       string          `json:"of,omitempty"`       // the copy that a snapshot is of
	Baseline json.RawMessage `json:"baseline,omitempty"` // of the witness
	// baselines of snapshots of this very database, by their ids
	Also map[string]json.RawMessage `json:"also,omitempty"`
	// the state that the baseline stands for, where it is not Start
	BaselineState string          `json:"at,omitempty"`
	Resetting     bool            `json:"resetting,omitempty"` // a reset was begun and not finished
	Private       json.RawMessage `json:"private,omitempty"`   // what the engine alone reads
	Lost          time.Time       `json:"lost,omitzero"`       // when it was first seen without its owner
	Failed        bool            `json:"failed,omitempty"`    // kept after a command failed
	Held          bool            `json:"held,omitempty"`      // set aside as a test left it
	Spare         bool            `json:"spare,omitempty"`     // made beforehand: nobody has it yet
	// Through is the address at which clients reach a copy that is reset by rollback: what
	// is done elsewhere is not rolled back, and sees nothing of what they have done.
	Through string `json:"through,omitempty"`
	// Asks is the process that can be asked about it, by its private socket.
	Asks int `json:"asks,omitempty"`
}

// Sound reports whether facts can be what a Hemzo wrote: somebody may have
// edited them.
func (f Facts) Sound() bool { return f.Format > 0 && f.Layer >= len(f.Steps) }

// Change applies a change to what Find found, unless a newer Hemzo wrote it.
func (e Entry) Change(change func(*Facts)) (Facts, error) {
	if e.Newer {
		return e.Facts, fault.New(fault.Refused, "use the newer Hemzo", "%s was made by a newer Hemzo", e.ID)
	}
	change(&e.Facts)
	return e.Facts, nil
}

// StepFact is a step that has been applied.
type StepFact struct {
	Name string        `json:"n"`
	Hash string        `json:"h"`
	Took time.Duration `json:"t"` // nanoseconds
	// Inputs are the files that a command's result came from, with a hash
	// each.
	Inputs map[string]string `json:"i,omitempty"`
}

// Scope tells whose something is.
type Scope struct {
	Machine string `json:"machine"`
	User    string `json:"user"`
	Project string `json:"project"`
	Run     string `json:"run,omitempty"` // of a CI system
}

// Owner tells what keeps a copy. Without any of it a copy stays until it is
// dropped.
type Owner struct {
	Lock    string    `json:"lock,omitempty"`    // held by a process on the server
	Process Process   `json:"process,omitzero"`  // that has to be alive
	Machine string    `json:"machine,omitempty"` // where that is; "" for any
	Child   Process   `json:"child,omitzero"`    // started by the owner: it keeps its database too
	Until   time.Time `json:"until,omitzero"`    // after which the copy goes, by the server's clock where others use it
	Command string    `json:"command,omitempty"` // in a user's words
}

// Process names a process of a machine for good: numbers are used again, a
// number with its start time is not.
type Process struct {
	PID     int    `json:"pid"`
	Started string `json:"started"`
}

// Entry is something on a server that bears Hemzo's mark.
type Entry struct {
	ID    string
	Kind  Kind
	Size  int64 // bytes
	Facts Facts
	Newer bool // its facts are of a newer format: it is left alone
	Bad   bool // its facts cannot be read
}
