// Package apiary holds the demo project, a beekeepers' co-operative, so that
// the program can show itself anywhere. What its engines have in common lies
// in shared, the rest in a folder for each.
package apiary

import (
	"embed"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed all:*
var files embed.FS

// Engines lists the engines that the project is there for, by name: each has a
// folder.
func Engines() (names []string) {
	listed, _ := fs.ReadDir(files, ".")
	for _, f := range listed {
		if f.IsDir() && f.Name() != "shared" {
			names = append(names, f.Name())
		}
	}
	return names
}

// Unpack writes the project for an engine to a folder, which it makes.
func Unpack(engine, folder string) error {
	var errs []error
	parts := []string{"shared", engine}
	switch engine {
	case "mysql": // its sources are MariaDB's
		parts = []string{"shared", "mariadb", engine}
	case "redis": // it has no tables
		parts = []string{engine}
	}
	for _, part := range parts {
		tree, err := fs.Sub(files, part)
		if err != nil {
			return err
		}
		errs = append(errs, write(tree, folder))
	}
	return errors.Join(errs...)
}

func write(tree fs.FS, folder string) error {
	return fs.WalkDir(tree, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(folder, filepath.FromSlash(path))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		b, err := fs.ReadFile(tree, path)
		if err != nil {
			return err
		}
		return os.WriteFile(to, b, 0o644)
	})
}
