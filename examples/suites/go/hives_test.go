// Package hives is a suite that shares nothing between its tests. Run with:
//
//	hemzo run -- go test ./examples/suites/go
package hives

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
)

// ask sends a request to the control endpoint. Each test asks by its own
// name, so that all may run in parallel.
func ask(t *testing.T, method, path string) string {
	t.Helper()
	r, err := http.NewRequest(method, os.Getenv("HEMZO_CONTROL")+"/w/"+t.Name()+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Fatalf("%s %s: %s %v", method, path, b, err)
	}
	return strings.TrimSpace(string(b))
}

// hives connects to a copy of the test's own, at its start state. Where the
// test fails, its data is held.
func hives(t *testing.T) *pgx.Conn {
	t.Helper()
	if os.Getenv("HEMZO_CONTROL") == "" {
		return nil // not under hemzo run: there is nothing to test on
	}
	t.Parallel()
	ask(t, "POST", "/reset")
	db, err := pgx.Connect(context.Background(), ask(t, "GET", "/connection?form=url"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		db.Close(context.Background())
		if t.Failed() {
			ask(t, "POST", "/hold?as="+url.QueryEscape(t.Name()))
		}
	})
	return db
}

func add(t *testing.T, label string) {
	db := hives(t)
	if db == nil {
		return
	}
	var id int
	if err := db.QueryRow(context.Background(), "INSERT INTO hive (label) VALUES ($1) RETURNING id",
		label).Scan(&id); err != nil {
		t.Fatal(err)
	}
	if id != 3 || os.Getenv("WRONG") != "" {
		t.Errorf("the new hive has the number %d, wanted 3", id)
	}
}

func TestOneHiveIsAdded(t *testing.T)     { add(t, "B1") }
func TestAnotherHiveIsAdded(t *testing.T) { add(t, "C1") }
func TestAThirdHiveIsAdded(t *testing.T)  { add(t, "D1") }
