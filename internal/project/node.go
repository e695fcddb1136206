package project

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"hemzo/internal/fault"
)

// node is a value of the project file together with its place.
type node struct {
	at     fault.Position
	scalar bool
	null   bool
	quoted bool
	text   string
	items  []*node // of a list
	fields []field // of a map, in the file's order
	isMap  bool
}

type field struct {
	name  string
	at    fault.Position
	value *node
}

func (n *node) get(name string) *node {
	if n == nil {
		return nil
	}
	for _, f := range n.fields {
		if f.name == name {
			return f.value
		}
	}
	return nil
}

// withoutMark leaves out the mark that some editors put before UTF-8.
func withoutMark(src []byte) []byte { return bytes.TrimPrefix(src, []byte("\xef\xbb\xbf")) }

// parse reads YAML into nodes.
func parse(file string, src []byte) (*node, error) {
	if line, deep := tooDeep(src); deep {
		return nil, problem(fault.Position{File: file, Line: line}, "",
			"lists and maps lie more than %d deep in one another here", deepest)
	}
	tree, err := parser.ParseBytes(src, 0)
	if err != nil {
		e := fault.New(fault.Usage, "", "this is not YAML")
		e.Where, e.Said, e.Reason = fault.Position{File: file}, err.Error(), err
		if y, ok := errors.AsType[yaml.Error](err); ok {
			e.Said = y.GetMessage()
			e.Where = position(file, y.GetToken())
		}
		return nil, e
	}
	p := builder{file: file, anchors: map[string]*node{}}
	for _, doc := range tree.Docs[1:] {
		if doc.Body != nil {
			return nil, p.bad(doc.Body, "a second document begins here; a project file is one")
		}
	}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return &node{at: fault.Position{File: file, Line: 1, Column: 1}, null: true}, nil
	}
	return p.node(tree.Docs[0].Body)
}

// deepest is how deep lists and maps may lie in one another: the library's time
// grows with the square of it.
const deepest = 100

// tooDeep looks at brackets, at dashes in a row and at indentation.
func tooDeep(src []byte) (line int, deep bool) {
	open := 0
	for i, text := range strings.Split(string(src), "\n") {
		rest := strings.TrimLeft(text, " -?\t")
		dashes := strings.Count(text[:len(text)-len(rest)], "-")
		for _, c := range rest {
			switch c {
			case '[', '{':
				open++
			case ']', '}':
				open = max(open-1, 0)
			}
			if open > deepest {
				return i + 1, true
			}
		}
		if dashes > deepest || len(text)-len(rest) > 10*deepest {
			return i + 1, true
		}
	}
	return 0, false
}

func position(file string, t *token.Token) fault.Position {
	if t == nil || t.Position == nil {
		return fault.Position{File: file}
	}
	return fault.Position{File: file, Line: t.Position.Line, Column: t.Position.Column}
}

type builder struct {
	file    string
	anchors map[string]*node
	nodes   int // that names stand for, so far
}

// mostNodes bounds what names may stand for together: names of names multiply.
const mostNodes = 10_000

// size counts the values in a value, up to a little more than mostNodes.
func (n *node) size() int {
	count := 1
	for _, item := range n.items {
		if count > mostNodes {
			break
		}
		count += item.size()
	}
	for _, f := range n.fields {
		if count > mostNodes {
			break
		}
		count += f.value.size()
	}
	return count
}

func (b *builder) bad(n ast.Node, format string, args ...any) error {
	return problem(position(b.file, n.GetToken()), "", format, args...)
}

func problem(at fault.Position, next, format string, args ...any) error {
	e := fault.New(fault.Usage, next, format, args...)
	e.Where = at
	return e
}

func (b *builder) node(n ast.Node) (*node, error) {
	at := position(b.file, n.GetToken())
	switch v := n.(type) {
	case *ast.MappingNode:
		return b.mapping(at, v.Values)
	case *ast.MappingValueNode:
		return b.mapping(at, []*ast.MappingValueNode{v})
	case *ast.SequenceNode:
		out := &node{at: at}
		for _, item := range v.Values {
			value, err := b.node(item)
			if err != nil {
				return nil, err
			}
			out.items = append(out.items, value)
		}
		return out, nil
	case *ast.NullNode:
		return &node{at: at, null: true}, nil
	case *ast.StringNode:
		q := v.Token.Type == token.SingleQuoteType || v.Token.Type == token.DoubleQuoteType
		return &node{at: at, scalar: true, text: v.Value, quoted: q}, nil
	case *ast.LiteralNode:
		return &node{at: at, scalar: true, text: v.Value.Value, quoted: true}, nil
	case *ast.AnchorNode:
		value, err := b.node(v.Value)
		if err == nil {
			b.anchors[v.Name.GetToken().Value] = value
		}
		return value, err
	case *ast.AliasNode:
		if value := b.anchors[v.Value.GetToken().Value]; value != nil {
			if b.nodes += value.size(); b.nodes > mostNodes {
				return nil, b.bad(n, "with what its names stand for the file is too large")
			}
			return value, nil
		}
		return nil, b.bad(n, "no anchor %q above", v.Value.GetToken().Value)
	case ast.ScalarNode:
		// Numbers and flags as they were written: 15 and 3.10 are texts too.
		return &node{at: at, scalar: true, text: v.GetToken().Value}, nil
	}
	return nil, b.bad(n, "a %s has no meaning here", strings.ToLower(n.Type().String()))
}

func (b *builder) mapping(at fault.Position, values []*ast.MappingValueNode) (*node, error) {
	out := &node{at: at, isMap: true}
	if len(values) > 0 {
		out.at = position(b.file, values[0].Key.GetToken())
	}
	for _, v := range values {
		value, err := b.node(v.Value)
		if err != nil {
			return nil, err
		}
		out.fields = append(out.fields,
			field{name: v.Key.GetToken().Value, at: position(b.file, v.Key.GetToken()), value: value})
	}
	return out, nil
}

// is says what a node is, in a user's words.
func (n *node) is() string {
	switch {
	case n.null:
		return "nothing"
	case n.isMap:
		return "a map"
	case n.scalar:
		return fmt.Sprintf("%q", n.text)
	}
	return "a list"
}

// over returns base with top's values put over it: maps are merged, all else
// is replaced.
func over(base, top *node) *node {
	if base == nil || !base.isMap || !top.isMap {
		return top
	}
	out := &node{at: base.at, isMap: true}
	for _, f := range base.fields {
		if t := top.get(f.name); t != nil {
			f.value = over(f.value, t)
		}
		out.fields = append(out.fields, f)
	}
	for _, f := range top.fields {
		if base.get(f.name) == nil {
			out.fields = append(out.fields, f)
		}
	}
	return out
}
