package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hemzo/internal/engine"
	"hemzo/internal/engine/all"
	"hemzo/internal/place"
)

// reference is the major version that the others are measured beside.
const reference = "15"

// turns is how often the versions take turns.
const turns = 3

// versions measures a reset with 5 tables of 170 touched on every major version
// of which there is an image: in memory, inside an image of each, and in
// containers.
func (b bench) versions() error {
	majors, err := imageMajors()
	if err != nil {
		return err
	}
	inMemory, err := b.everyMemory(majors)
	if err != nil {
		return err
	}
	for _, m := range majors {
		if m != reference {
			b.versionLine("5 of 170 tables, "+m+" in memory", inMemory[m], reference+" in memory", inMemory[reference], m)
		}
	}
	contained, here, err := b.everyContainer(majors)
	if err != nil {
		return err
	}
	for _, m := range majors {
		b.versionLine("5 of 170 tables, "+m+" in a container", contained[m], "this machine's in memory", here, m)
	}
	return nil
}

// versionLine prints one of these; of versions before the reference nothing is wanted.
func (b bench) versionLine(what string, got time.Duration, raw string, base time.Duration, major string) {
	if major < reference {
		line(what, got, raw, base, "none", true)
		return
	}
	line(what, got, raw, base, "<= 1.3 x", got <= base*13/10)
}

func imageMajors() ([]string, error) {
	out, err := exec.Command("docker", "images", "--format", "{{.Tag}}", "hemzo-test/postgres").Output()
	majors := strings.Fields(string(out))
	slices.Sort(majors)
	if err == nil && !slices.Contains(majors, reference) {
		err = errors.New("there is no image to measure with: scripts/make-test-images makes it")
	}
	return majors, err
}

// everyMemory runs this program inside an image of each version, in turns.
func (b bench) everyMemory(majors []string) (map[string]time.Duration, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	all := map[string][]time.Duration{}
	for range turns {
		for _, m := range majors {
			out, err := exec.Command("docker", "run", "--rm", "--init", "--shm-size", "1g", "-v", self+":/bench:ro", "-v",
				b.program+":/hemzo:ro", "-e", "HOME=/tmp", "--entrypoint", "/bench", "hemzo-test/postgres:"+m,
				"-program", "/hemzo", "-engine", "five").CombinedOutput()
			if err != nil {
				return nil, fmt.Errorf("%w: %s", err, out)
			}
			lines := strings.Split(strings.TrimSpace(string(out)), "\n")
			took, err := time.ParseDuration(lines[len(lines)-1])
			if err != nil {
				return nil, err
			}
			all[m] = append(all[m], took)
		}
	}
	return middles(all), nil
}

func middles(all map[string][]time.Duration) map[string]time.Duration {
	one := map[string]time.Duration{}
	for key, some := range all {
		one[key] = middle(some)
	}
	return one
}

// onlyFive prints how long a reset takes with 5 of 170 tables touched.
func (b bench) onlyFive() error {
	ctx := context.Background()
	os.Setenv("HEMZO_PROGRAM", b.program)
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	root := filepath.Join(b.dir, "five")
	if _, err := b.schema(root, 20); err != nil {
		return err
	}
	h, err := b.hold(ctx, root)
	if err != nil {
		return err
	}
	took, err := h.timed(ctx, 40, engine.Truncation, func(int) error { return h.five(ctx) })
	if err != nil {
		return err
	}
	fmt.Println(took)
	return h.end(ctx)
}

// everyContainer holds a copy in a container of each version and one in memory,
// and resets them in turns.
func (b bench) everyContainer(majors []string) (contained map[string]time.Duration, here time.Duration, err error) {
	ctx := context.Background()
	os.Setenv("HEMZO_PROGRAM", b.program)
	defer func() { _, _ = place.Stop(ctx, all.Engines(), true) }()
	copies := map[string]*held{}
	for _, m := range append([]string{""}, majors...) {
		root := filepath.Join(b.dir, "version-"+m)
		if _, err := b.schema(root, 20); err != nil {
			return nil, 0, err
		}
		if m != "" {
			text := "databases: { apiary: { engine: postgres, where: container, image: hemzo-test/postgres:" + m +
				", from: [ { migrations: m } ] } }\n"
			if err := os.WriteFile(filepath.Join(root, "hemzo.yaml"), []byte(text), 0o644); err != nil {
				return nil, 0, err
			}
		}
		if copies[m], err = b.hold(ctx, root); err != nil {
			return nil, 0, err
		}
	}
	times := map[string][]time.Duration{}
	for range turns {
		for m, h := range copies {
			took, err := h.timed(ctx, 40, engine.Truncation, func(int) error { return h.five(ctx) })
			if err != nil {
				return nil, 0, err
			}
			times[m] = append(times[m], took)
		}
	}
	for _, h := range copies {
		err = errors.Join(err, h.end(ctx))
	}
	contained = middles(times)
	return contained, contained[""], err
}
