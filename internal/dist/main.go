// Command dist makes what is published: for each system an archive with the
// program, its manual pages, completion for three shells and the JSON Schema of the
// project file, a Debian package for each Linux, and the checksums of all. The same
// commit gives the same bytes.
//
//	go run ./internal/dist -version 1.2.3 -commit abc -time 1700000000 -to dist
package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"hemzo/internal/cli"
	"hemzo/internal/project"
)

// release is what is made.
type release struct {
	version, commit string
	at              time.Time // of everything in it
	to              string    // the folder
}

// file is a file of an archive or a package.
type file struct {
	path string // in it, without a slash at the beginning
	text []byte
	mode int64
}

func main() {
	log.SetFlags(0)
	log.SetPrefix("dist: ")
	r := release{}
	seconds := flag.Int64("time", 0, "the time of the files, in seconds since 1970: the commit's")
	pages := flag.Bool("pages", false, "make no more than the manual pages and completions, for make install")
	flag.StringVar(&r.version, "version", "dev", "the version")
	flag.StringVar(&r.commit, "commit", "unknown", "the commit")
	flag.StringVar(&r.to, "to", "dist", "the folder to write to")
	flag.Parse()
	for _, name := range []string{"HEMZO_PROFILE", "NO_COLOR"} { // they are defaults of flags
		os.Unsetenv(name)
	}
	r.at = time.Unix(*seconds, 0).UTC()
	if err := r.make(*pages); err != nil {
		log.Fatal(err)
	}
}

// targets are the systems that programs are made for.
var targets = []struct{ system, machine string }{
	{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"},
}

func (r release) make(pagesAlone bool) error {
	texts, err := r.texts()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(r.to, 0o755); err != nil {
		return err
	}
	if pagesAlone {
		return r.unpack(texts)
	}
	made := map[string][]byte{}
	for _, t := range targets {
		program, err := r.build(t.system, t.machine)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("hemzo-%s-%s-%s", r.version, t.system, t.machine)
		all := append([]file{{"bin/hemzo", program, 0o755}}, texts...)
		if made[name+".tar.gz"], err = r.archive(name, all); err != nil {
			return err
		}
		if t.system != "linux" {
			continue
		}
		name = fmt.Sprintf("hemzo_%s_%s.deb", r.version, t.machine)
		if made[name], err = r.deb(t.machine, all); err != nil {
			return err
		}
	}
	return r.write(made)
}

// write writes what was made, and its checksums.
func (r release) write(made map[string][]byte) error {
	var sums strings.Builder
	names := make([]string, 0, len(made))
	for name := range made {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(made[name]), name)
		if err := os.WriteFile(filepath.Join(r.to, name), made[name], 0o644); err != nil {
			return err
		}
		log.Printf("%s, %.1f MB", name, float64(len(made[name]))/(1<<20))
	}
	return os.WriteFile(filepath.Join(r.to, "SHA256SUMS"), []byte(sums.String()), 0o644)
}

// unpack writes files below the folder.
func (r release) unpack(all []file) error {
	for _, f := range all {
		path := filepath.Join(r.to, f.path)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, f.text, os.FileMode(f.mode)); err != nil {
			return err
		}
	}
	return nil
}

// build compiles the program.
func (r release) build(system, machine string) ([]byte, error) {
	dir, err := os.MkdirTemp("", "hemzo-dist-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	out := filepath.Join(dir, "hemzo")
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags",
		fmt.Sprintf("-s -w -X main.version=%s -X main.commit=%s", r.version, r.commit), "-o", out, "./cmd/hemzo")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+machine)
	if said, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("building for %s/%s: %w\n%s", system, machine, err, said)
	}
	return os.ReadFile(out)
}

// texts are the manual pages, the completions and the schema.
func (r release) texts() (all []file, err error) {
	root := cli.Command(cli.Build{Version: r.version, Commit: r.commit})
	if all, err = r.manual(root); err != nil {
		return nil, err
	}
	for _, shell := range []struct {
		path string
		text func(io.Writer) error
	}{
		{"share/bash-completion/completions/hemzo", func(w io.Writer) error { return root.GenBashCompletionV2(w, true) }},
		{"share/zsh/site-functions/_hemzo", root.GenZshCompletion},
		{"share/fish/vendor_completions.d/hemzo.fish", func(w io.Writer) error { return root.GenFishCompletion(w, true) }},
	} {
		var b bytes.Buffer
		if err := shell.text(&b); err != nil {
			return nil, err
		}
		all = append(all, file{shell.path, b.Bytes(), 0o644})
	}
	schema, err := json.MarshalIndent(project.Schema(), "", "  ")
	return append(all, file{"share/hemzo/hemzo.schema.json", append(schema, '\n'), 0o644}), err
}

// manual makes a page of each command, from the texts that --help shows.
func (r release) manual(above *cobra.Command) (all []file, err error) {
	for _, c := range append([]*cobra.Command{above}, above.Commands()...) {
		if c != above && (!c.IsAvailableCommand() || c.IsAdditionalHelpTopicCommand()) {
			continue
		}
		c.DisableAutoGenTag = true
		var b bytes.Buffer
		header := &doc.GenManHeader{Section: "1", Date: &r.at, Source: "Hemzo " + r.version, Manual: "Hemzo"}
		if err := doc.GenMan(c, header, &b); err != nil {
			return nil, err
		}
		name := strings.ReplaceAll(c.CommandPath(), " ", "-")
		all = append(all, file{"share/man/man1/" + name + ".1", b.Bytes(), 0o644})
	}
	return all, nil
}
