package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"fmt"
	"path"
	"slices"
)

// archive packs files into a gzipped tar file, in one folder.
func (r release) archive(folder string, all []file) ([]byte, error) {
	packed := make([]file, len(all))
	for i, f := range all {
		f.path = folder + "/" + f.path
		packed[i] = f
	}
	return r.tar(packed)
}

// tar packs files, with the folders that they lie in: all belong to root and are of
// one time, so that the same files give the same bytes.
func (r release) tar(all []file) ([]byte, error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	w := tar.NewWriter(z)
	for _, dir := range folders(all) {
		err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir + "/", Mode: 0o755, ModTime: r.at,
			Format: tar.FormatUSTAR, Uname: "root", Gname: "root"})
		if err != nil {
			return nil, err
		}
	}
	for _, f := range all {
		err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: f.path, Mode: f.mode, ModTime: r.at,
			Size: int64(len(f.text)), Format: tar.FormatUSTAR, Uname: "root", Gname: "root"})
		if err == nil {
			_, err = w.Write(f.text)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	err = z.Close()
	return b.Bytes(), err
}

// folders are those that files lie in, each before those in it.
func folders(all []file) (names []string) {
	for _, f := range all {
		for dir := path.Dir(f.path); dir != "."; dir = path.Dir(dir) {
			if !slices.Contains(names, dir) {
				names = append(names, dir)
			}
		}
	}
	slices.Sort(names)
	return names
}

// deb packs files as a Debian package (deb(5), format 2.0).
func (r release) deb(machine string, all []file) ([]byte, error) {
	var installed int64
	var data []file
	for _, f := range all {
		f.path = "./usr/" + f.path
		data = append(data, f)
		installed += int64(len(f.text))
	}
	control := fmt.Sprintf(`Package: hemzo
Version: %s
Architecture: %s
Maintainer: the makers of Hemzo <hemzo@localhost>
Installed-Size: %d
Section: devel
Priority: optional
Description: real databases for test suites
 Built once from the project's own migrations, handed out as isolated copies in
 milliseconds, reset between tests, and gone afterwards.
`, r.version, machine, (installed+1023)/1024)
	inside, err := r.tar([]file{{"./control", []byte(control), 0o644}})
	if err != nil {
		return nil, err
	}
	content, err := r.tar(data)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.WriteString("!<arch>\n")
	for _, member := range []file{{"debian-binary", []byte("2.0\n"), 0}, {"control.tar.gz", inside, 0},
		{"data.tar.gz", content, 0}} {
		fmt.Fprintf(&b, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", member.path, r.at.Unix(), 0, 0, "100644", len(member.text))
		b.Write(member.text)
		if len(member.text)%2 == 1 {
			b.WriteByte('\n')
		}
	}
	return b.Bytes(), nil
}
