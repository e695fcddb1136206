package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hemzo/internal/copies"
	"hemzo/internal/engine"
	"hemzo/internal/template"
)

// control measures what a suite asks between its tests, on a template of 170
// tables and about 50 MB, raw SQL on a kept connection beside it.
func (b bench) control() error {
	root := filepath.Join(b.dir, "control")
	p, err := b.schema(root, 100)
	if err != nil {
		return err
	}
	defer b.command(b.program, "stop", "--force")()
	if _, err := b.command(b.program, "build", "--project", root)(); err != nil {
		return err
	}
	e := b.private
	plan, err := template.Read(context.Background(), p, &p.Databases[0], e, copies.ScopeOf(p.Root))
	if err != nil {
		return err
	}
	if err := b.runs(root, engine.TemplateID(plan.Layers[plan.Head()])); err != nil {
		return err
	}
	at, _, end, err := b.serve(root)
	if err != nil {
		return err
	}
	if err := errors.Join(b.untouched(at), b.fromSpares(at), end()); err != nil {
		return err
	}
	if err := b.aside(root); err != nil {
		return err
	}
	return b.eight(root, b.long)
}

// serve starts the control endpoint, and returns its address and its process.
func (b bench) serve(root string, flags ...string) (at string, pid int, end func() error, err error) {
	serve := exec.Command(b.program, append([]string{"serve", "--project", root}, flags...)...)
	out, err := serve.StdoutPipe()
	if err != nil {
		return "", 0, nil, err
	}
	if err := serve.Start(); err != nil {
		return "", 0, nil, err
	}
	buffer := make([]byte, 4096)
	n, err := out.Read(buffer)
	return strings.TrimSpace(string(buffer[:n])), serve.Process.Pid, func() error {
		return errors.Join(serve.Process.Signal(os.Interrupt), serve.Wait())
	}, err
}

// ask times one request.
func ask(method, url string) (time.Duration, string, error) {
	began := time.Now()
	r, err := http.NewRequest(method, url, nil)
	if err != nil {
		return 0, "", err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, "", err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", url, text)
	}
	return time.Since(began), string(text), err
}

func (b bench) untouched(at string) error {
	_, url, err := ask("GET", at+"/connection?form=url")
	if err != nil {
		return err
	}
	ctx := context.Background()
	conn, err := pgconn.Connect(ctx, strings.TrimSpace(url))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	one := func() (time.Duration, error) {
		return timed(func() error {
			_, err := conn.Exec(ctx, "SELECT 1").ReadAll()
			return err
		})
	}
	var resets, bares []time.Duration
	for range 100 {
		d, _, err := ask("POST", at+"/reset")
		if err != nil {
			return err
		}
		bare, err := one()
		if err != nil {
			return err
		}
		resets, bares = append(resets, d), append(bares, bare)
	}
	got, bare := middle(resets), middle(bares)
	line("reset of an untouched copy, endpoint", got, "SELECT 1 on a kept connection", bare, "<= 1.5 ms",
		got <= 1500*time.Microsecond)

	resets = nil
	for range 30 {
		if _, err := conn.Exec(ctx, "INSERT INTO hive_1 (label) VALUES ('x'); INSERT INTO hive_2 (label) VALUES "+
			"('x'); INSERT INTO hive_3 (label) VALUES ('x')").ReadAll(); err != nil {
			return err
		}
		d, _, err := ask("POST", at+"/reset")
		if err != nil {
			return err
		}
		resets = append(resets, d)
	}
	bare, err = timed(func() error {
		_, err := conn.Exec(ctx, "DELETE FROM hive_1; DELETE FROM hive_2; DELETE FROM hive_3").ReadAll()
		return err
	})
	line("reset, 3 of 170 tables touched, endpoint", middle(resets), "the bare DELETEs", bare, "-", true)
	return err
}

func (b bench) fromSpares(at string) error {
	var takes []time.Duration
	for i := range 12 {
		d, _, err := ask("GET", fmt.Sprintf("%s/w/worker-%d", at, i))
		if err != nil {
			return err
		}
		if i > 1 { // from the second on there are spare ones
			takes = append(takes, d)
		}
		time.Sleep(700 * time.Millisecond) // for more to be made again
	}
	got := middle(takes)
	line("take a spare copy, endpoint", got, "-", got, "<= 5 ms", got <= 5*time.Millisecond)
	return nil
}
