package definition

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// node is a value of the file with its place. It keeps scalars as they were
// written, so that `exec: [sleep, 010]` hands over 010.
type node struct {
	kind   nodeKind
	text   string // of a scalar
	quoted bool   // a scalar in quotes or a block, hence text for certain
	pairs  []pair
	items  []*node
	line   int       // from 1
	column int       // from 1
	from   *document // that it stands in, nil for the file that is being read
}

type pair struct{ key, value *node }

type nodeKind int

const (
	nothing nodeKind = iota
	scalar
	mapping
	sequence
)

func (k nodeKind) String() string {
	return [...]string{"nothing", "a single value", "a mapping", "a list"}[k]
}

// Limits of one file, so that no file can stall the service.
const (
	maxFileSize = 1 << 20 // bytes
	maxNodes    = 200_000 // values, aliases counted each time they are used
	maxDepth    = 64
)

// parseTree reads the documents of a YAML 1.2 file. JSON is read too, as a
// subset of YAML.
func parseTree(text string) ([]*node, error) {
	file, err := parser.ParseBytes([]byte(text), 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return nil, err
	}
	b := builder{anchors: map[string]ast.Node{}}
	var documents []*node
	for _, doc := range file.Docs {
		if doc.Body == nil || doc.Body.Type() == ast.CommentType || doc.Body.Type() == ast.NullType {
			continue
		}
		n, err := b.build(doc.Body, 0)
		if err != nil {
			return nil, err
		}
		documents = append(documents, n)
	}
	return documents, nil
}

// treeError is a mistake of the YAML itself.
type treeError struct {
	line, column int
	message      string
}

func (e *treeError) Error() string { return e.message }

// syntaxPlace is where and what, of an error that parseTree gave.
func syntaxPlace(err error) (line, column int, message string) {
	if e, ok := err.(*treeError); ok {
		return e.line, e.column, e.message
	}
	if e, ok := err.(yaml.Error); ok && e.GetToken() != nil {
		at := e.GetToken().Position
		return at.Line, at.Column, e.GetMessage()
	}
	return 0, 0, err.Error()
}

type builder struct {
	anchors map[string]ast.Node
	count   int
}

func (b *builder) build(from ast.Node, depth int) (*node, error) {
	at := from.GetToken().Position
	fail := func(format string, args ...any) (*node, error) {
		return nil, &treeError{at.Line, at.Column, fmt.Sprintf(format, args...)}
	}
	if b.count++; b.count > maxNodes {
		return fail("the file has more than %d values once its aliases are written out", maxNodes)
	}
	if depth > maxDepth {
		return fail("values are nested more than %d deep", maxDepth)
	}
	n := &node{line: at.Line, column: at.Column}
	switch from := from.(type) {
	case *ast.AnchorNode:
		name := from.Name.GetToken().Value
		b.anchors[name] = from.Value
		return b.build(from.Value, depth+1)
	case *ast.AliasNode:
		name := from.Value.GetToken().Value
		target, ok := b.anchors[name]
		if !ok {
			return fail("the alias *%s has no anchor &%s before it", name, name)
		}
		return b.build(target, depth+1)
	case *ast.TagNode:
		return fail("the tag %s has no meaning here", from.GetToken().Value)
	case *ast.NullNode:
		return n, nil
	case *ast.LiteralNode:
		n.kind, n.text, n.quoted = scalar, from.Value.Value, true
		return n, nil
	case *ast.StringNode:
		kind := from.GetToken().Type
		n.kind, n.text = scalar, from.Value
		n.quoted = kind == token.SingleQuoteType || kind == token.DoubleQuoteType
		return n, nil
	case *ast.MappingValueNode:
		n.kind = mapping
		return n, b.add(n, from, depth)
	case *ast.MappingNode:
		n.kind = mapping
		for _, value := range from.Values {
			if err := b.add(n, value, depth); err != nil {
				return nil, err
			}
		}
		if len(n.pairs) > 0 {
			n.line, n.column = n.pairs[0].key.line, n.pairs[0].key.column
		}
		return n, nil
	case *ast.SequenceNode:
		n.kind = sequence
		for _, value := range from.Values {
			item, err := b.build(value, depth+1)
			if err != nil {
				return nil, err
			}
			n.items = append(n.items, item)
		}
		return n, nil
	}
	n.kind, n.text = scalar, strings.TrimSpace(from.GetToken().Value)
	return n, nil
}

func (b *builder) add(to *node, from *ast.MappingValueNode, depth int) error {
	at := from.Key.GetToken().Position
	if _, merge := from.Key.(*ast.MergeKeyNode); merge {
		merged, err := b.build(from.Value, depth+1)
		if err != nil {
			return err
		}
		to.pairs = append(to.pairs, merged.pairs...)
		return nil
	}
	value, err := b.build(from.Value, depth+1)
	if err != nil {
		return err
	}
	key := &node{kind: scalar, text: from.Key.GetToken().Value, line: at.Line, column: at.Column}
	if value.kind == mapping || value.kind == nothing || value.line == 0 {
		value.line, value.column = at.Line, at.Column
	}
	to.pairs = append(to.pairs, pair{key, value})
	return nil
}
