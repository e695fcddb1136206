package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// containers measures servers in containers, docker run of the same image
// with the same settings beside them.
func (b bench) containers() error {
	image, err := testImage()
	if err != nil {
		return err
	}
	root := filepath.Join(b.dir, "contained")
	if _, err := b.schema(root, 20); err != nil {
		return err
	}
	file := filepath.Join(root, "hemzo.yaml")
	text := "databases: { apiary: { engine: postgres, where: %s, image: " + image +
		", from: [ { migrations: m } ] } }\n"
	in := func(where string) error { return os.WriteFile(file, fmt.Appendf(nil, text, where), 0o644) }
	hemzo := func(args ...string) (time.Duration, error) {
		return b.command(append([]string{b.program}, append(args, "--project", root)...)...)()
	}
	if err := in("container"); err != nil {
		return err
	}
	defer b.command(b.program, "stop", "--force", "--templates")()

	// Nothing running to a populated copy, the template kept from before.
	var colds, bares, takes, inMemory []time.Duration
	if _, err := hemzo("build"); err != nil {
		return err
	}
	for range 5 {
		if _, err := b.command(b.program, "stop", "--force")(); err != nil {
			return err
		}
		cold, err := hemzo("take")
		if err != nil {
			return err
		}
		bare, err := bareContainer(image)
		if err != nil {
			return err
		}
		colds, bares = append(colds, cold), append(bares, bare)
	}
	cold, bare := middle(colds), middle(bares)
	line("nothing running to a populated copy", cold, "docker run to the first answer, bare copy", bare, "<= 0.6 x",
		cold <= bare*6/10)

	// The next take, in a container and in memory in turns.
	if err := in("memory"); err != nil {
		return err
	}
	if _, err := hemzo("take"); err != nil {
		return err
	}
	for range 15 {
		for where, all := range map[string]*[]time.Duration{"memory": &inMemory, "container": &takes} {
			if err := in(where); err != nil {
				return err
			}
			d, err := hemzo("take")
			if err != nil {
				return err
			}
			*all = append(*all, d)
		}
	}
	took, memory := middle(takes), middle(inMemory)
	line("take, container running", took, "the same take in memory", memory, "<= 1.2 x", took <= memory*12/10)
	return b.tenContainers(root, text)
}

// tenContainers asks for ten databases, of two servers, at once.
func (b bench) tenContainers(root, text string) error {
	if _, err := b.command(b.program, "stop", "--force", "--templates")(); err != nil {
		return err
	}
	for i, more := range []string{"", ", settings: { work_mem: 5MB }"} {
		dir := filepath.Join(root, fmt.Sprint("server", i))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		text := strings.Replace(fmt.Sprintf(text, "container"), "migrations: m } ]", "migrations: ../m } ]"+more, 1)
		if err := os.WriteFile(filepath.Join(dir, "hemzo.yaml"), []byte(text), 0o644); err != nil {
			return err
		}
	}
	var wg sync.WaitGroup
	failed := make(chan error, 10)
	began := time.Now()
	for i := range 10 {
		wg.Go(func() {
			if _, err := b.command(b.program, "take", "-q", "--project",
				filepath.Join(root, fmt.Sprint("server", i%2)))(); err != nil {
				failed <- err
			}
		})
	}
	wg.Wait()
	took := time.Since(began)
	out, err := exec.Command("docker", "ps", "-q", "--filter", "label=hemzo.scope").Output()
	fmt.Printf("%-44s %10s   %d failed, %d containers (wanted: 0, 2)\n", "ten at once, two distinct servers",
		show(took), len(failed), len(strings.Fields(string(out))))
	return err
}

// testImage is the image that the tests have made.
func testImage() (string, error) {
	out, err := exec.Command("docker", "images", "--format", "{{.Repository}}:{{.Tag}}", "hemzo-test/postgres").Output()
	if names := strings.Fields(string(out)); err == nil && len(names) > 0 {
		return names[0], nil
	}
	return "", errors.New("there is no image to measure with: scripts/make-test-images makes it")
}

// bareContainer times docker run, data in memory, until a query is answered
// over the published port, and a copy of a database.
func bareContainer(image string) (time.Duration, error) {
	ctx := context.Background()
	began := time.Now()
	args := []string{"run", "-d", "--rm", "-p", "127.0.0.1::5432", "--tmpfs", "/var/lib/postgresql/data", "-e",
		"POSTGRES_PASSWORD=x", "-e", "POSTGRES_USER=hemzo", "-e", "POSTGRES_DB=postgres",
		image, "postgres", "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off"}
	out, err := exec.Command("docker", args...).Output()
	if err != nil {
		return 0, fmt.Errorf("docker run: %w", err)
	}
	id := strings.TrimSpace(string(out))
	defer exec.Command("docker", "rm", "-f", id).Run()
	out, err = exec.Command("docker", "port", id, "5432").Output()
	if err != nil {
		return 0, fmt.Errorf("docker port: %w", err)
	}
	at := strings.TrimSpace(strings.Split(string(out), "\n")[0])
	for time.Since(began) < time.Minute {
		conn, err := pgconn.Connect(ctx, "postgresql://hemzo:x@"+at+"/postgres?sslmode=disable")
		if err != nil {
			time.Sleep(5 * time.Millisecond)
			continue
		}
		_, err = conn.Exec(ctx, "CREATE DATABASE copied TEMPLATE template0").ReadAll()
		return time.Since(began), errors.Join(err, conn.Close(ctx))
	}
	return 0, errors.New("docker run: no query was answered")
}
