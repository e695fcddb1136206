// Package apiary is the demo project: a beekeepers' co-operative. It is part
// of the program, so that hemzo demo works from any folder.
package apiary

import "embed"

// Files are the project's files.
//
//go:embed hemzo.yaml db suite config
var Files embed.FS
