package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// aside measures a take through the endpoint while another worker's copy is
// replaced again and again, or waits for a client to go so that a snapshot of it
// can be made; and how long such a wait goes on. Takes alone are measured in
// turns with those beside.
func (b bench) aside(root string) error {
	file := filepath.Join(root, "hemzo.yaml")
	if err := os.WriteFile(file, []byte(
		"databases: { apiary: { engine: postgres, spare: 0, wait: 1s, from: [ { migrations: m } ] } }\n"),
		0o644); err != nil {
		return err
	}
	at, _, end, err := b.serve(root)
	if err != nil {
		return err
	}
	return errors.Join(b.takesBeside(at), end())
}

func (b bench) takesBeside(at string) error {
	_, url, err := ask("GET", at+"/w/other/connection?form=url")
	if err != nil {
		return err
	}
	client, err := pgconn.Connect(context.Background(), strings.TrimSpace(url))
	if err != nil {
		return err
	}
	var waits []time.Duration
	n := 0
	take := func() (time.Duration, error) {
		n++
		d, _, err := ask("GET", fmt.Sprintf("%s/w/worker-%d", at, n))
		return d, err
	}
	for _, other := range []struct{ what, path string }{{"snapshot that waits", "/w/other/snapshot?as=s"},
		{"replacement", "/w/other/reset?by=snapshot"}} {
		if other.what == "replacement" {
			_ = client.Close(context.Background())
		}
		var alone, beside []time.Duration
		for range 12 {
			d, err := take()
			if err != nil {
				return err
			}
			alone = append(alone, d)
			ctx, stop := context.WithCancel(context.Background())
			var busy sync.WaitGroup
			busy.Go(func() {
				for ctx.Err() == nil {
					began := time.Now()
					r, _ := http.NewRequest("POST", at+other.path, nil)
					if answer, err := http.DefaultClient.Do(r); err == nil {
						answer.Body.Close()
					}
					if strings.Contains(other.path, "snapshot?as") {
						waits = append(waits, time.Since(began))
					}
				}
			})
			time.Sleep(50 * time.Millisecond)
			d, err = take()
			stop()
			busy.Wait()
			if err != nil {
				return err
			}
			beside = append(beside, d)
		}
		got, base := middle(beside), middle(alone)
		line("take beside another's "+other.what, got, "take alone", base, "<= 1.5 x", got <= base*3/2)
	}
	longest := middle(waits)
	for _, w := range waits {
		longest = max(longest, w)
	}
	line("answer with wait: 1s, the longest", longest, "the wait", time.Second, "<= 1.3 s",
		longest <= 1300*time.Millisecond)
	return nil
}
