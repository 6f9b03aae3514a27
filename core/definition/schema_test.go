package definition

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(Schema))
	if err != nil {
		t.Fatal(err)
	}
	compiler := jsonschema.NewCompiler()
	if err := compiler.AddResource("workflow.json", document); err != nil {
		t.Fatal(err)
	}
	compiled, err := compiler.Compile("workflow.json")
	if err != nil {
		t.Fatal(err)
	}
	return compiled
}

// asJSON is a YAML document in the types of JSON.
func asJSON(t *testing.T, text string) any {
	t.Helper()
	converted, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(string(converted)))
	if err != nil {
		t.Fatal(err)
	}
	return value
}

// What the reader accepts, the schema accepts.
func TestTheSchemaAcceptsWhatIsRight(t *testing.T) {
	compiled := schema(t)
	files, err := filepath.Glob("../../demo/project/workflows/*.yaml")
	if err != nil || len(files) < 5 {
		t.Fatalf("%v %v", files, err)
	}
	texts := map[string]string{"whole": whole}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		texts[file] = string(text)
	}
	for name, text := range texts {
		if err := compiled.Validate(asJSON(t, text)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is wrong in shape, the schema refuses too.
func TestTheSchemaRefusesWhatIsWrong(t *testing.T) {
	compiled := schema(t)
	for _, name := range []string{"unknown-key", "unknown-key-of-task", "no-tasks", "empty-tasks", "tasks-as-list", "task-with-two-kinds", "task-does-nothing", "bad-task-name", "exec-as-text", "exec-empty",
		"env-of-the-service", "timeout-without-unit", "retry-out-of-range", "every-and-cron", "start-without-rule", "if-running", "param-without-type", "param-of-unknown-type", "join-unknown", "join-of-none",
		"otherwise-unknown", "after-outcome-unknown", "outcomes-unknown", "route-rule-not-whole", "labels-as-text", "may-fail-maybe",
		"each-none-at-once", "resource-without-close", "resource-of-a-route", "start-of-nothing", "start-window", "wait-text", "wait-of-nothing", "wait-of-two", "wait-all-and-more", "wait-all-of-one", "wait-file", "wait-http", "wait-query", "wait-workflow", "approve", "updates", "start-outside"} {
		text, err := os.ReadFile("testdata/mistakes/" + name + ".yaml")
		if err != nil {
			t.Fatal(err)
		}
		if compiled.Validate(asJSON(t, string(text))) == nil {
			t.Errorf("the schema accepts %s", name)
		}
	}
}

// The schema knows the keys that the reader knows, at every place.
func TestTheSchemaHasTheKeysOfTheReader(t *testing.T) {
	var document map[string]any
	if err := json.Unmarshal([]byte(Schema), &document); err != nil {
		t.Fatal(err)
	}
	object := func(from any, path ...string) map[string]any {
		at, _ := from.(map[string]any)
		for _, step := range path {
			at, _ = at[step].(map[string]any)
		}
		return at
	}
	for what, c := range map[string]struct {
		text string
		keys map[string]any
	}{
		"the workflow":               {"qqqqqqqqqqqq: 1\nworkflow: w\ntasks: {a: {exec: [x]}}", object(document, "properties")},
		"a task":                     {"workflow: w\ntasks: {a: {exec: [x], qqqqqqqqqqqq: 1}}", object(document, "$defs", "task", "properties")},
		"a param":                    {"workflow: w\nparams: {p: {type: text, qqqqqqqqqqqq: 1}}\ntasks: {a: {exec: [x]}}", object(document, "$defs", "param", "properties")},
		"a start":                    {"workflow: w\nstarts: [{every: 1h, qqqqqqqqqqqq: 1}]\ntasks: {a: {exec: [x]}}", object(document, "$defs", "start", "properties")},
		"retry":                      {"workflow: w\ntasks: {a: {exec: [x], retry: {qqqqqqqqqqqq: 1}}}", object(document, "$defs", "retry", "properties")},
		"a resource":                 {"workflow: w\nresources: {s: {open: {exec: [x]}, close: {exec: [x]}, qqqqqqqqqqqq: 1}}\ntasks: {a: {within: s, exec: [x]}}", object(document, "$defs", "resource", "properties")},
		"an action":                  {"workflow: w\nresources: {s: {open: {exec: [x], qqqqqqqqqqqq: 1}, close: {exec: [x]}}}\ntasks: {a: {within: s, exec: [x]}}", object(document, "$defs", "action", "properties")},
		"a workflow that is started": {"workflow: w\ntasks: {a: {start: {workflow: v, qqqqqqqqqqqq: 1}}}", object(document, "$defs", "inner", "properties")},
		"a watermark":                {"workflow: w\nwatermarks: {m: {type: text, qqqqqqqqqqqq: 1}}\ntasks: {a: {exec: [x]}}", object(document, "$defs", "watermark", "properties")},
		"defaults":                   {"workflow: w\ndefaults: {qqqqqqqqqqqq: 1}\ntasks: {a: {exec: [x]}}", object(document, "$defs", "defaults", "properties")},
	} {
		_, problems := Parse("w.yaml", c.text, standard)
		if len(problems) != 1 {
			t.Fatalf("%s: %v", what, problems)
		}
		known := strings.Split(strings.TrimPrefix(problems[0].Fix, "known here: "), ", ")
		if !slices.Equal(known, sortedKeys(c.keys)) {
			t.Errorf("%s: the reader knows %v, the schema %v", what, known, sortedKeys(c.keys))
		}
	}
}

func TestWavesAndTheLongestChain(t *testing.T) {
	workflows, problems := Parse("w.yaml", "workflow: w\ntasks: {d: {after: [b, c], exec: [x]}, a: {exec: [x]}, b: {after: a, exec: [x]}, c: {exec: [x]}, e: {exec: [x]}}", standard)
	if problems != nil {
		t.Fatal(problems)
	}
	var waves []string
	for _, wave := range workflows[0].Waves() {
		var names []string
		for _, task := range wave {
			names = append(names, task.Name)
		}
		waves = append(waves, strings.Join(names, " "))
	}
	if got := strings.Join(waves, " | "); got != "a c e | b | d" {
		t.Errorf("waves: %s", got)
	}
	if got := strings.Join(workflows[0].LongestChain(), " "); got != "a b d" {
		t.Errorf("the longest chain: %s", got)
	}
}
