package service_test

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"

	"wiselantern/client"
	"wiselantern/core/match"
	"wiselantern/internal/testkit"
)

const storms = `
workflow: storm
if_running: alongside
params: {basin: {type: text, default: none}, level: {type: number, default: 0}}
starts: [{event: storm.*, params: {basin: "${event.subject}", level: "${event.data.level}"}}]
tasks: {a: {shell: 'true'}}`

// post sends a request as a sender does that knows only HTTP.
func post(t *testing.T, address string, headers map[string]string, body io.Reader) (status int, answer string) {
	t.Helper()
	request, err := http.NewRequestWithContext(testkit.Context(t), http.MethodPost, address, body)
	if err != nil {
		t.Fatal(err)
	}
	for name, value := range headers {
		request.Header.Set(name, value)
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, string(text)
}

// The client of the CloudEvents SDK, which we did not write, sends in both modes;
// the batch mode is sent by hand.
func TestEventsComeInInEachMode(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, storms)
	sender, err := cloudevents.NewClientHTTP(cloudevents.WithTarget(s.Address+"/api/events"), cloudevents.WithHeader("Authorization", "Bearer "+s.Token))
	if err != nil {
		t.Fatal(err)
	}
	for i, mode := range []func(context.Context) context.Context{cloudevents.WithEncodingBinary, cloudevents.WithEncodingStructured} {
		for range 10 { // the same one, ten times
			e := cloudevents.NewEvent()
			e.SetID(fmt.Sprintf("sdk-%d", i))
			e.SetSource("/gauges/upper")
			e.SetType("storm.warning")
			e.SetSubject(fmt.Sprintf("basin-%d", i))
			e.SetExtension("severity", 3)
			if err := e.SetData(cloudevents.ApplicationJSON, map[string]any{"level": 2.5}); err != nil {
				t.Fatal(err)
			}
			if result := sender.Send(mode(testkit.Context(t)), e); !cloudevents.IsACK(result) {
				t.Fatalf("mode %d: %v", i, result)
			}
		}
	}
	auth := map[string]string{"Authorization": "Bearer " + s.Token, "Content-Type": "application/cloudevents-batch+json"}
	status, answer := post(t, s.Address+"/api/events", auth, strings.NewReader(`[
		{"specversion":"1.0","id":"b1","source":"/batch","type":"storm.watch","subject":"basin-2","data":{"level":1}},
		{"specversion":"1.0","id":"b2","source":"/batch","type":"storm.watch","subject":"basin-3","data_base64":"eyJsZXZlbCI6NH0="}]`))
	if status != http.StatusAccepted || !strings.Contains(answer, `"id":"b2"`) {
		t.Fatalf("the batch: %d %s", status, answer)
	}
	page, err := s.Runs(testkit.Context(t), client.RunsFilter{Workflow: "storm"})
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, r := range page.Runs {
		got += fmt.Sprintf("%s %v %v; ", r.Cause, r.Params["basin"], r.Params["level"])
	}
	if got != "event basin-3 4; event basin-2 1; event basin-1 2.5; event basin-0 2.5; " {
		t.Errorf("runs: %s", got)
	}
	events, err := s.Events(testkit.Context(t), client.EventsFilter{Type: "storm.*"})
	if err != nil || len(events.Events) != 4 || len(events.Events[0].Answers) != 1 || events.Events[0].Answers[0].Run != "storm:4" || events.Events[0].Via != "api" {
		t.Errorf("events: %+v, %v", events, err)
	}
	if text, _ := json.Marshal(events.Events[3].Event); !strings.Contains(string(text), `"severity":"3"`) {
		t.Errorf("its own attribute is lost: %s", text)
	}
}

func TestEventsThatAreNotTaken(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, storms)
	for _, one := range []struct {
		headers map[string]string
		body    string
		status  int
		want    string
	}{
		{map[string]string{"Content-Type": "application/cloudevents+json"}, `{"specversion":"1.0","source":"/a","type":"storm.x"}`, 422, "has no id"},
		{map[string]string{"Content-Type": "application/cloudevents+json"}, `{"specversion":"1.0","id":"1","type":"storm.x"}`, 422, "has no source"},
		{map[string]string{"Content-Type": "application/cloudevents+json"}, `{"id":`, 422, "not an event in JSON"},
		{map[string]string{"Content-Type": "application/cloudevents-batch+json"}, `[{"specversion":"1.0","id":"1","source":"/a","type":"storm.x"},{"id":"2"}]`, 422, "event 2 of the batch"},
		{map[string]string{"Content-Type": "application/cloudevents-batch+json"}, `[]`, 422, "has 0 events"},
		{map[string]string{"Content-Type": "application/json", "Ce-Id": "1", "Ce-Source": "/a", "Ce-Type": "storm.x"}, `{"level":`, 422, "is not"},
		{map[string]string{"Content-Type": "application/json"}, `{}`, 422, "this is no CloudEvent"},
		{map[string]string{"Content-Type": "application/json", "Ce-Id": "1", "Ce-Source": "/a", "Ce-Type": "lantern.run.ended"}, `{}`, 422, "told by the service alone"},
		{map[string]string{"Content-Type": "application/json", "Ce-Id": "1", "Ce-Source": "/a", "Ce-Type": "storm.x"}, `"` + strings.Repeat("x", 300<<10) + `"`, 422, "over the limit of 262144"},
		{map[string]string{"Content-Type": "application/json", "Ce-Id": "1", "Ce-Source": "/a", "Ce-Type": "storm.x"}, `"` + strings.Repeat("x", 9<<20) + `"`, 413, "over the limit"},
	} {
		one.headers["Authorization"] = "Bearer " + s.Token
		status, answer := post(t, s.Address+"/api/events", one.headers, strings.NewReader(one.body))
		if status != one.status || !strings.Contains(answer, one.want) {
			t.Errorf("%.60s: %d %s, want %d %s", one.body, status, answer, one.status, one.want)
		}
	}
	if status, _ := post(t, s.Address+"/api/events", nil, strings.NewReader("{}")); status != http.StatusUnauthorized {
		t.Errorf("without the token: %d", status)
	}
	refusals, err := s.Refusals(testkit.Context(t))
	if err != nil || len(refusals) != 10 || !strings.Contains(refusals[len(refusals)-1].Reason, "has no id") {
		t.Errorf("refused: %+v, %v", refusals, err)
	}
	if page, err := s.Runs(testkit.Context(t), client.RunsFilter{Workflow: "storm"}); err != nil || len(page.Runs) != 0 {
		t.Errorf("runs of what was refused: %+v, %v", page.Runs, err)
	}
	// A hundred megabytes end at the door; the connection may be cut off before the answer.
	request, err := http.NewRequestWithContext(testkit.Context(t), http.MethodPost, s.Address+"/api/events", bytes.NewReader(make([]byte, 100<<20)))
	if err != nil {
		t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+s.Token)
	if response, err := http.DefaultClient.Do(request); err == nil {
		response.Body.Close()
		if response.StatusCode != http.StatusRequestEntityTooLarge {
			t.Errorf("a hundred megabytes: %s", response.Status)
		}
	}
	if _, err := s.Health(testkit.Context(t)); err != nil {
		t.Errorf("after a hundred megabytes: %v", err)
	}
}

func signed(secret, stamp, body string) string {
	mac := hmac.New(sha256.New, []byte(secret))
	if stamp != "" {
		mac.Write([]byte(stamp + "."))
	}
	mac.Write([]byte(body))
	return hex.EncodeToString(mac.Sum(nil))
}

func TestAHookLetsInWhatIsSigned(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, storms)
	ctx := testkit.Context(t)
	hook, err := s.AddHook(ctx, "office", client.HookSettings{Map: map[string]string{
		"type": "storm.${body.kind}", "subject": "${body.basin}", "id": "${body.bulletin}", "data": "${ {'level': body.level} }", "source": "/office/${headers['x-desk']}"}})
	if err != nil || len(hook.Secret) < 32 {
		t.Fatalf("%+v, %v", hook, err)
	}
	body := `{"bulletin": "7", "kind": "warning", "basin": "upper", "level": 2.5}`
	now := strconv.FormatInt(time.Now().Unix(), 10)
	old := strconv.FormatInt(time.Now().Add(-7*24*time.Hour).Unix(), 10)
	send := func(stamp, signature, body string) (int, string) {
		return post(t, s.Address+hook.Path, map[string]string{"Lantern-Timestamp": stamp, "Lantern-Signature": signature, "X-Desk": "north", "Content-Type": "application/json"}, strings.NewReader(body))
	}
	if status, answer := send(now, signed(hook.Secret, now, body), body); status != http.StatusAccepted || !strings.Contains(answer, `"known":false`) {
		t.Fatalf("%d %s", status, answer)
	}
	if status, answer := send(now, signed(hook.Secret, now, body), body); status != http.StatusAccepted || !strings.Contains(answer, `"known":true`) {
		t.Errorf("sent again: %d %s", status, answer)
	}
	for want, one := range map[string]struct{ stamp, signature, body string }{
		"168h":                     {old, signed(hook.Secret, old, body), body},
		"not that of STAMP.BODY":   {now, signed("another", now, body), body},
		"with the secret of the h": {now, signed(hook.Secret, old, body), body},
		"has no signature":         {now, "", body},
		"time stamp in":            {"yesterday", signed(hook.Secret, "yesterday", body), body},
		"cannot be told":           {now, signed(hook.Secret, now, `{"kind": "warning"}`), `{"kind": "warning"}`},
		"over the limit of 1 MiB":  {now, signed(hook.Secret, now, body), strings.Repeat(" ", 2<<20)},
	} {
		status, answer := send(one.stamp, one.signature, one.body)
		if status < 400 || !strings.Contains(answer, want) {
			t.Errorf("%s: %d %s", want, status, answer)
		}
	}
	if status, _ := post(t, s.Address+"/api/hooks/nobody", nil, strings.NewReader(body)); status != http.StatusNotFound {
		t.Errorf("a hook that is not there: %d", status)
	}
	page, err := s.Events(ctx, client.EventsFilter{Type: "storm.*"})
	if err != nil || len(page.Events) != 1 || page.Events[0].Source != "/office/north" || page.Events[0].Via != "hook office" {
		t.Errorf("events: %+v, %v", page.Events, err)
	}
	if refusals, err := s.Refusals(ctx); err != nil || len(refusals) < 7 || refusals[0].Via != "hook office" {
		t.Errorf("refused: %+v, %v", refusals, err)
	}
	// A sender with another way to sign, and a door that lets few in.
	plain, err := s.AddHook(ctx, "plain", client.HookSettings{SignatureHeader: "X-Sig", SignaturePrefix: "sha256=", TimeHeader: new(string), PerSecond: 1})
	if err != nil {
		t.Fatal(err)
	}
	accepted, refused := 0, 0
	for i := range 8 {
		body := fmt.Sprintf(`{"n": %d}`, i)
		switch status, answer := post(t, s.Address+plain.Path, map[string]string{"X-Sig": "sha256=" + signed(plain.Secret, "", body)}, strings.NewReader(body)); status {
		case http.StatusAccepted:
			accepted++
		case http.StatusTooManyRequests:
			refused++
		default:
			t.Errorf("%d %s", status, answer)
		}
	}
	if accepted < 2 || refused < 3 {
		t.Errorf("%d were let in and %d were not", accepted, refused)
	}
	if err := s.RemoveHook(ctx, "plain"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddHook(ctx, "wrong", client.HookSettings{Map: map[string]string{"type": "${bodi.kind}"}}); err == nil || !strings.Contains(err.Error(), `"bodi" is not known here`) {
		t.Errorf("a map with a mistake: %v", err)
	}
}

// A program writes slowly, into a folder that is not there yet; a file shrinks; a
// pattern means too many.
func TestAWaitForFiles(t *testing.T) {
	s := testkit.Start(t)
	dir := t.TempDir()
	s.Apply(t, fmt.Sprintf(`
workflow: w
if_running: alongside
params: {dir: {type: text, default: %q}}
tasks:
  slow: {wait: {file: "${params.dir}/new/**/*.csv", settle: 2s, check: 30s}}
  two: {wait: {file: ["${params.dir}/a.txt", "${params.dir}/b.txt"], count: 2, settle: 100ms, check: 30s, min_size: 4}}
  many: {wait: {file: "${params.dir}/many/*", check: 1s}}
  use: {after: slow, shell: 'cat "$FILE" | wc -l', env: {FILE: "${task('slow').result.paths[0]}"}}`, dir))
	if err := os.Mkdir(filepath.Join(dir, "many"), 0o755); err != nil {
		t.Fatal(err)
	}
	for i := range 10_001 {
		if err := os.WriteFile(filepath.Join(dir, "many", strconv.Itoa(i)), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	run := s.Begin(t, "w")
	s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "many").State == "failed" })
	if many := testkit.Task(t, s.Until(t, run.ID, func(client.Run) bool { return true }), "many"); !strings.Contains(many.Error, "more than 10000 files") {
		t.Errorf("too many files: %q", many.Error)
	}
	folder := filepath.Join(dir, "new", "today")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	file, err := os.Create(filepath.Join(folder, "g.csv"))
	if err != nil {
		t.Fatal(err)
	}
	for range 8 { // written over longer than it settles
		fmt.Fprintln(file, "a line")
		time.Sleep(150 * time.Millisecond)
		if state := testkit.Task(t, s.Until(t, run.ID, func(client.Run) bool { return true }), "slow").State; state != "waiting" {
			t.Fatalf("it did not wait for the last line: %s", state)
		}
	}
	file.Close()
	for name, text := range map[string]string{"a.txt": "long enough", "b.txt": "at first"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Truncate(filepath.Join(dir, "b.txt"), 2); err != nil { // it shrinks before it has settled
		t.Fatal(err)
	}
	done := s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "use").State == "succeeded" })
	if log := s.Log(t, run.ID, "use", 1); strings.TrimSpace(log) != "out 8" {
		t.Errorf("the file that it was given: %q", log)
	}
	slow := testkit.Task(t, done, "slow")
	if slow.Result["count"] != 1.0 || slow.Result["sizes"].([]any)[0] != 56.0 {
		t.Errorf("its result: %v", slow.Result)
	}
	if log := s.Log(t, run.ID, "slow", 1); !strings.Contains(log, "0 files, and 1 still growing or too small; looking again in") || !strings.HasSuffix(log, "1 file\n") {
		t.Errorf("its log: %q", log)
	}
	if state := testkit.Task(t, done, "two").State; state != "waiting" {
		t.Errorf("one of two files has shrunk, and the wait is %s", state)
	}
	if err := os.WriteFile(filepath.Join(dir, "b.txt"), []byte("long again"), 0o644); err != nil {
		t.Fatal(err)
	}
	if two := testkit.Task(t, s.End(t, run.ID), "two"); two.State != "succeeded" || two.Result["count"] != 2.0 {
		t.Errorf("both files are there: %s %v", two.State, two.Result)
	}
}

// The partner hangs, is slow, answers nonsense, is ready; another one is broken.
func TestAWaitForAnAddress(t *testing.T) {
	var asked atomic.Int32
	partner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/hangs" {
			<-r.Context().Done()
			return
		}
		switch asked.Add(1) {
		case 1:
			w.WriteHeader(http.StatusServiceUnavailable)
		case 2:
			fmt.Fprint(w, "not yet") // no JSON: the condition cannot be told
		case 3:
			fmt.Fprint(w, `{"ready": false}`)
		default:
			fmt.Fprintf(w, `{"ready": true, "agent": %q, "method": %q}`, r.Header.Get("X-Desk"), r.Method)
		}
	}))
	defer partner.Close()
	defer partner.CloseClientConnections() // one of them hangs
	s := testkit.Start(t)
	s.Apply(t, fmt.Sprintf(`
workflow: w
params: {desk: {type: text, default: north}}
tasks:
  ready: {wait: {http: "%[1]s/ready", method: POST, headers: {X-Desk: "${params.desk}"}, holds: answer.body.ready, check: 1s, growth: 1}}
  hangs: {wait: {http: "%[1]s/hangs", check: 1s}, timeout: 3s, may_fail: true}
  gone: {wait: {http: "http://127.0.0.1:1/", check: 1s}, timeout: 2s, on_timeout: skip}`, partner.URL))
	run := s.End(t, s.Begin(t, "w").ID)
	body, _ := testkit.Task(t, run, "ready").Result["answer"].(map[string]any)
	if said, _ := body["body"].(map[string]any); run.State != "succeeded" || said["agent"] != "north" || said["method"] != "POST" {
		t.Errorf("%s: %v", run.State, body)
	}
	log := s.Log(t, run.ID, "ready", 1)
	for _, want := range []string{"503 Service Unavailable", "its holds cannot be told", "its holds is false", "looking again in 1s"} {
		if !strings.Contains(log, want) {
			t.Errorf("its log does not say %q: %s", want, log)
		}
	}
	if hangs := testkit.Task(t, run, "hangs"); hangs.State != "failed" || !strings.Contains(hangs.Error, "longer than its timeout of 3s") {
		t.Errorf("%+v", hangs)
	}
	if gone := testkit.Task(t, run, "gone"); gone.State != "skipped" || !strings.Contains(s.Log(t, run.ID, "gone", 1), "connection refused") {
		t.Errorf("%+v", gone)
	}
}

func TestAQuestionIsAnsweredByALink(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\ntasks: {alarm: {approve: {ask: Publish?, from: duty}}, after: {after: alarm, shell: 'true'}}")
	run := s.Begin(t, "w")
	ctx := testkit.Context(t)
	s.Until(t, run.ID, func(r client.Run) bool { return testkit.Task(t, r, "alarm").State == "waiting" })
	if _, err := s.Answer(ctx, run.ID, client.AnswerRequest{Task: "alarm", Answer: "yes"}); err == nil || !strings.Contains(err.Error(), "asks duty, and you are kari") {
		t.Errorf("somebody else: %v", err)
	}
	link, err := s.AnswerLink(ctx, run.ID, client.AnswerLinkRequest{Task: "alarm", Person: "duty"})
	if err != nil {
		t.Fatal(err)
	}
	_, code, _ := strings.Cut(link.URL, "#code=")
	if !strings.HasPrefix(link.URL, s.Address+"/answer#") {
		t.Errorf("the link is %s", link.URL)
	}
	address := s.Address + "/api/answers/" + code
	response, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(response.Body)
	response.Body.Close()
	if !strings.Contains(string(text), `"ask":"Publish?"`) {
		t.Errorf("the question: %s", text)
	}
	spoiled := code[:len(code)-3] + "AAA"
	if status, _ := post(t, s.Address+"/api/answers/"+spoiled, map[string]string{"Content-Type": "application/json"}, strings.NewReader(`{"answer": "yes"}`)); status != http.StatusUnauthorized {
		t.Errorf("a link that was changed: %d", status)
	}
	for i, want := range []int{200, 410} {
		if status, answer := post(t, address, map[string]string{"Content-Type": "application/json"}, strings.NewReader(`{"answer": "yes", "reason": "it rains"}`)); status != want {
			t.Errorf("answer %d: %d %s", i+1, status, answer)
		}
	}
	done := s.End(t, run.ID)
	if result := testkit.Task(t, done, "alarm").Result; done.State != "succeeded" || result["by"] != "duty" || result["reason"] != "it rains" {
		t.Errorf("%s %v", done.State, result)
	}
}

// Two thousand events, sent by several at once and each of them twice: each is
// answered once.
func TestManyEventsAtOnce(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\nstarts: [{event: rain, collect: 1s, params: {n: \"${events.size()}\"}}]\nparams: {n: {type: whole, default: 0}}\nif_running: alongside\ntasks: {a: {shell: 'true'}}")
	ctx := testkit.Context(t)
	errs := make(chan error, 8)
	for sender := range 8 {
		go func() {
			var err error
			for n := 0; n < 20 && err == nil; n++ {
				var batch []match.Event
				for i := range 25 {
					batch = append(batch, match.Event{ID: fmt.Sprint(sender/2, n, i), Source: "/gauges", Type: "rain"})
				}
				_, err = s.SendEvents(ctx, batch)
			}
			errs <- err
		}()
	}
	for range 8 {
		if err := <-errs; err != nil {
			t.Fatal(err)
		}
	}
	total := 0.0
	for deadline := time.Now().Add(30 * time.Second); total < 2000 && time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		page, err := s.Runs(ctx, client.RunsFilter{Workflow: "w", Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		total = 0
		for _, r := range page.Runs {
			total += r.Params["n"].(float64)
		}
	}
	if total != 2000 {
		t.Errorf("%g events are answered, want 2000", total)
	}
}
