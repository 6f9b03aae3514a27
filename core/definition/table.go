package definition

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
)

// A workflow may take its tasks from the rows of a table. A row becomes what
// would stand in the file, and is read like it.

// Tables are the paths of the files that workflows in these files take tasks from,
// or holidays, relative to the project's folder. A file with mistakes may name
// none.
func Tables(files []File) (paths []string) {
	add := func(n *node, kinds []string) {
		if n.kind == scalar && isPathOf(n.text, kinds) && !slices.Contains(paths, n.text) {
			paths = append(paths, n.text)
		}
	}
	for _, f := range files {
		if f.Path == ProjectFile || f.Table || len(f.Text) > maxFileSize {
			continue
		}
		docs, err := parseTree(f.Text)
		if err != nil {
			continue
		}
		for _, doc := range docs {
			add(doc.get("table"), tableKinds)
			add(doc.get("table").get("file"), tableKinds)
			for _, start := range doc.get("starts").items {
				except := start.get("except")
				for _, n := range append([]*node{except}, except.items...) {
					add(n, []string{".ics"})
				}
			}
		}
	}
	return paths
}

// get is the value of a key, or nothing.
func (n *node) get(key string) *node {
	for _, p := range n.pairs {
		if p.key.text == key {
			return p.value
		}
	}
	return &node{}
}

var tableKinds = []string{".csv", ".tsv", ".json"}

func isPathOf(name string, kinds []string) bool {
	return name == path.Clean(name) && !path.IsAbs(name) && name != ".." && !strings.HasPrefix(name, "../") && slices.Contains(kinds, path.Ext(name))
}

// withTable reads the table and puts its tasks before those of the file; nil if it
// cannot be read.
func (r *reader) withTable(n, tasks *node) *node {
	before := len(r.problems)
	var file *node
	columns := map[string]*node{} // by the key that they become
	if n.kind == scalar {
		file = n
	} else if !r.keys(n, "table", map[string]func(*node){
		"file": func(n *node) { file = n },
		"columns": func(n *node) {
			r.each(n, "columns of table", func(key, value *node) {
				r.text(value, "the column for "+key.text)
				columns[key.text] = value
			})
		},
	}) {
		return nil
	}
	if file == nil {
		if len(r.problems) == before {
			r.problem(n, "add file: PATH", "table names no file")
		}
		return nil
	}
	name := r.text(file, "file of table")
	text, there := r.tables[name]
	switch {
	case !isPathOf(name, tableKinds):
		r.problem(file, "write the path of a .csv, .tsv or .json file in the project's folder, as in data/checks.csv", "%q is no table", name)
		return nil
	case !there:
		r.problem(file, "write the path as it is in the project's folder", "there is no table %s", name)
		return nil
	}
	table := r.table(name, text, columns, n)
	if table == nil {
		return nil
	}
	if tasks != nil && tasks.kind == mapping {
		table.pairs = append(table.pairs, tasks.pairs...)
	}
	return table
}

// table makes a mapping of tasks of a table, nil if it cannot be read.
func (r *reader) table(name, text string, columns map[string]*node, at *node) *node {
	own := newReader(name, text)
	var rows []*node
	if path.Ext(name) == ".json" {
		rows = own.rowsOfJSON(text)
	} else {
		rows = own.rowsOfCSV(text, path.Ext(name) == ".tsv")
	}
	r.problems = append(r.problems, own.problems...)
	if own.problems != nil {
		return nil
	}
	tasks := &node{kind: mapping, line: at.line, column: at.column}
	for _, row := range rows {
		if len(columns) > 0 {
			if row = r.chosenColumns(row, columns); row == nil {
				return nil
			}
		}
		var taskName *node
		task := &node{kind: mapping, line: row.line, column: row.column, from: row.from}
		for _, p := range row.pairs {
			switch {
			case p.key.text == "name":
				taskName = p.value
			case p.value.kind == nothing || p.value.kind == scalar && p.value.text == "":
				// An empty cell says nothing.
			default:
				put(task, p.key, strings.Split(p.key.text, "."), cell(p))
			}
		}
		if taskName == nil || taskName.text == "" {
			fix := "give it one in the column name"
			if columns["name"] == nil {
				fix += ", or say under columns of table which column has the names"
			}
			r.problem(row, fix, "this row of the table has no name")
			continue
		}
		tasks.pairs = append(tasks.pairs, pair{taskName, task})
	}
	return tasks
}

// chosenColumns are the cells of a row under the keys that they become, nil if a
// column is not there.
func (r *reader) chosenColumns(row *node, columns map[string]*node) *node {
	out := &node{kind: mapping, line: row.line, column: row.column, from: row.from}
	var headers []string
	for _, p := range row.pairs {
		headers = append(headers, p.key.text)
	}
	for _, key := range sortedKeys(columns) {
		at := slices.Index(headers, columns[key].text)
		if at < 0 {
			r.problem(columns[key], "its columns are: "+listed(headers), "the table has no column %q", columns[key].text)
			return nil
		}
		p := row.pairs[at]
		out.pairs = append(out.pairs, pair{&node{kind: scalar, text: key, line: p.key.line, column: p.key.column, from: p.key.from}, p.value})
	}
	return out
}

// put puts a value at a path of keys, as in retry.times.
func put(to, key *node, way []string, value *node) {
	if len(way) == 1 {
		name := *key
		name.text = way[0]
		to.pairs = append(to.pairs, pair{&name, value})
		return
	}
	for _, p := range to.pairs {
		if p.key.text == way[0] && p.value.kind == mapping {
			put(p.value, key, way[1:], value)
			return
		}
	}
	inner := &node{kind: mapping, line: value.line, column: value.column, from: value.from}
	put(inner, key, way[1:], value)
	name := *key
	name.text = way[0]
	to.pairs = append(to.pairs, pair{&name, inner})
}

// cell is the value of a cell: where the key wants a list, its words, and for
// after also names with outcomes, as in load=failed.
func cell(p pair) *node {
	if p.value.kind != scalar {
		return p.value
	}
	part := func(kind nodeKind) *node {
		return &node{kind: kind, line: p.value.line, column: p.value.column, from: p.value.from}
	}
	word := func(text string) *node {
		n := part(scalar)
		n.text, n.quoted = text, true
		return n
	}
	switch p.key.text {
	case "exec":
		words := csv.NewReader(strings.NewReader(p.value.text))
		words.Comma, words.LazyQuotes, words.FieldsPerRecord = ' ', true, -1
		record, err := words.Read()
		if err != nil {
			return p.value
		}
		out := part(sequence)
		for _, text := range record {
			if text != "" {
				out.items = append(out.items, word(text))
			}
		}
		return out
	case "after", "within":
		names := strings.FieldsFunc(p.value.text, func(c rune) bool { return c == ' ' || c == ';' || c == ',' })
		if !strings.Contains(p.value.text, "=") {
			out := part(sequence)
			for _, text := range names {
				out.items = append(out.items, word(text))
			}
			return out
		}
		out := part(mapping)
		for _, text := range names {
			name, outcome, other := strings.Cut(text, "=")
			if !other {
				outcome = "succeeded"
			}
			out.pairs = append(out.pairs, pair{word(name), word(outcome)})
		}
		return out
	}
	return p.value
}

// rowsOfJSON are the objects of a list.
func (r *reader) rowsOfJSON(text string) (rows []*node) {
	docs := r.documents(text)
	if r.problems != nil {
		return nil
	}
	if len(docs) != 1 || docs[0].kind != sequence {
		r.whole("a table in JSON is a list of objects", `write it as [{"name": "collect", "exec": ["bin/collect"]}]`)
		return nil
	}
	for _, item := range docs[0].items {
		if item.kind != mapping {
			r.problem(item, `write {"name": NAME, …}`, "a row of the table is %s", item.kind)
			continue
		}
		r.stamp(item)
		rows = append(rows, item)
	}
	return rows
}

// stamp notes with a value, and all in it, which file it stands in.
func (r *reader) stamp(n *node) {
	n.from = &r.document
	for _, item := range n.items {
		r.stamp(item)
	}
	for _, p := range n.pairs {
		r.stamp(p.key)
		r.stamp(p.value)
	}
}

// rowsOfCSV are the records of RFC 4180, or with tabs between, under the names in
// the first.
func (r *reader) rowsOfCSV(text string, tabs bool) (rows []*node) {
	if len(text) > maxFileSize {
		r.whole(fmt.Sprintf("the table has %d bytes, over the limit of %d", len(text), maxFileSize), "split it into several workflows")
		return nil
	}
	in := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\uFEFF")))
	if tabs {
		in.Comma, in.LazyQuotes = '\t', true
	}
	var heads []*node
	for {
		record, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if wrong, ok := errors.AsType[*csv.ParseError](err); ok {
			fix := "put a cell with a comma, a quote or a line break in it into quotes, and double the quotes inside"
			if errors.Is(err, csv.ErrFieldCount) {
				fix = fmt.Sprintf("give each row %d cells, as the first has", len(heads))
			}
			r.at(wrong.Line, max(1, wrong.Column), "this is not CSV: "+wrong.Err.Error(), fix)
			return nil
		}
		cells := make([]*node, len(record))
		for i, field := range record {
			line, column := in.FieldPos(i)
			cells[i] = &node{kind: scalar, text: strings.TrimSpace(field), line: line, column: column, from: &r.document}
		}
		if heads == nil {
			heads = cells
			continue
		}
		row := &node{kind: mapping, line: cells[0].line, column: cells[0].column, from: &r.document}
		for i, c := range cells {
			row.pairs = append(row.pairs, pair{heads[i], c})
		}
		rows = append(rows, row)
	}
	if heads == nil {
		r.whole("the table is empty", "write the names of the columns into its first row: name,after,exec")
	}
	return rows
}
