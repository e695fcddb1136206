package place

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"hemzo/internal/engine"
	"hemzo/internal/engine/folder"
	"hemzo/internal/fault"
)

// record is what is known of the servers that one guard keeps. It lies in the
// state folder, readable by its user alone.
type record struct {
	Engine    string            `json:"engine"`
	Identity  string            `json:"identity"`
	Spec      engine.Spec       `json:"spec"`
	Idle      time.Duration     `json:"idle"`
	Within    time.Duration     `json:"within"` // for a server to answer
	Where     string            `json:"where"`
	Folder    string            `json:"folder,omitempty"`    // of the data, where they are processes
	Container string            `json:"container,omitempty"` // the name of the one, where it runs in one
	Kept      string            `json:"kept"`
	Log       string            `json:"log"`
	Guard     engine.Process    `json:"guard,omitzero"`
	Socket    string            `json:"socket,omitempty"` // of the guard
	Servers   map[string]member `json:"servers,omitempty"`
	Ready     bool              `json:"ready,omitempty"`
	Ending    bool              `json:"ending,omitempty"` // they are being ended, and what is kept saved
	Failed    *fault.Error      `json:"failed,omitempty"` // why there is no server
}

// member is one server that a guard keeps: the one that holds all copies, by
// the name "", or that of a copy.
type member struct {
	Server  engine.Process  `json:"server,omitzero"` // where it is a process of this machine
	Address json.RawMessage `json:"address,omitempty"`
	Folder  string          `json:"folder,omitempty"`
}

// address is where the one server is that holds all copies.
func (r record) address() json.RawMessage { return r.Servers[""].Address }

func recordFolder(state string) string { return filepath.Join(state, "servers") }

// recordFile is where the record of a server lies.
func recordFile(state, identity string) string {
	return filepath.Join(recordFolder(state), identity+".json")
}

// recordFiles lists the records of this user.
func recordFiles(state string) []string {
	found, _ := filepath.Glob(filepath.Join(recordFolder(state), "*.json"))
	return found
}

// identityOf is the server that a record is of.
func identityOf(path string) string { return strings.TrimSuffix(filepath.Base(path), ".json") }

// useOf is the lock that whoever works on a server shares. Who has it alone may
// end the server.
func useOf(path string) *flock.Flock { return flock.New(strings.TrimSuffix(path, ".json") + ".use") }

func readRecord(path string) (r record, err error) {
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	return r, err
}

// write writes a record in one step.
func (r record) write(path string) error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := folder.Replace(path, b); err != nil {
		return fmt.Errorf("recording a server: %w", err)
	}
	return nil
}

// startFailed is why a server did not start, with the last lines of its log.
func (r record) startFailed(f *fault.Error) error {
	if b, err := os.ReadFile(r.Log); err == nil && f.Lines == nil {
		f.Lines = fault.LastLines(string(b), 15)
	}
	if f.Next == "" {
		f.Next = "its log is " + r.Log
	}
	return f
}
