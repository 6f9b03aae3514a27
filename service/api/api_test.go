package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"os"
	"strings"
	"testing"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

// ask sends a raw request; headers are "Name: value", Host among them.
func ask(t *testing.T, s *testkit.Service, method, path, body string, headers ...string) (status int, contentType, answer string) {
	t.Helper()
	request, err := http.NewRequestWithContext(testkit.Context(t), method, s.Address+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		request.Header.Set("Content-Type", "application/json")
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		request.Header.Set(name, value)
		if name == "Host" {
			request.Host = value
		}
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
	return response.StatusCode, response.Header.Get("Content-Type"), string(text)
}

// Every route that the description lists, and the streams beside it, want the
// token or a session; only health and the exchange do not.
func TestEveryRouteWantsTheTokenOrASession(t *testing.T) {
	s := testkit.Start(t)
	_, _, text := ask(t, s, "GET", "/api/openapi.json", "", "Authorization: Bearer "+s.Token)
	var description struct {
		OpenAPI string                    `json:"openapi"`
		Paths   map[string]map[string]any `json:"paths"`
	}
	if err := json.Unmarshal([]byte(text), &description); err != nil || !strings.HasPrefix(description.OpenAPI, "3.1") {
		t.Fatalf("openapi %s: %v", description.OpenAPI, err)
	}
	routes := [][2]string{{"GET", "/api/openapi.json"}, {"GET", "/api/openapi.yaml"}, {"GET", "/api/stream"}, {"GET", "/api/runs/a:1/log/stream"}, {"GET", "/api/runs/a:1/log/raw"}, {"GET", "/api/nothing"}}
	for path, operations := range description.Paths {
		for method := range operations {
			routes = append(routes, [2]string{strings.ToUpper(method), strings.NewReplacer("{name}", "a", "{run}", "a:1", "{code}", "x").Replace(path)})
		}
	}
	if len(routes) < 18 {
		t.Fatalf("the description lists only %v", routes)
	}
	if _, err := s.AddHook(testkit.Context(t), "a", client.HookSettings{}); err != nil { // it wants a signature, whoever asks
		t.Fatal(err)
	}
	for _, route := range routes {
		body := ""
		if route[1] == "/api/answers/x" { // it wants a signed code, in place of x
			body = `{"answer": "yes"}`
		}
		if route == [2]string{"GET", "/api/health"} || route == [2]string{"POST", "/api/session"} {
			continue
		}
		for _, header := range []string{"X: none", "Authorization: Bearer wrong", "Authorization: Basic " + s.Token, "Authorization: ", "Cookie: lantern_session=wrong"} {
			status, contentType, answer := ask(t, s, route[0], route[1], body, header)
			if status != 401 || contentType != "application/problem+json" {
				t.Errorf("%v with %q: %d %s %s", route, header, status, contentType, answer)
			}
		}
	}
	if status, _, answer := ask(t, s, "GET", "/api/health", ""); status != 200 || !strings.Contains(answer, `"state":"well"`) {
		t.Errorf("health: %d %s", status, answer)
	}
}

func TestAPageElsewhereCannotReachTheService(t *testing.T) {
	s := testkit.Start(t)
	bearer := "Authorization: Bearer " + s.Token
	for _, host := range []string{"evil.example", "evil.example:7640", "127.0.0.1.evil.example"} {
		if status, _, answer := ask(t, s, "GET", "/api/workflows", "", bearer, "Host: "+host); status != http.StatusMisdirectedRequest || !strings.Contains(answer, "--host") {
			t.Errorf("Host %s: %d %s", host, status, answer)
		}
	}
	for _, host := range []string{"localhost:1", "127.0.0.1", "[::1]:7640"} {
		if status, _, _ := ask(t, s, "GET", "/api/workflows", "", bearer, "Host: "+host); status != 200 {
			t.Errorf("Host %s: %d", host, status)
		}
	}
	// A session acts only from the console's own pages.
	_, code, _ := strings.Cut(s.Link, "code=")
	jar, _ := cookiejar.New(nil)
	browser := &http.Client{Jar: jar}
	response, err := browser.Post(s.Address+"/api/session", "application/json", strings.NewReader(fmt.Sprintf(`{"code": %q}`, code)))
	if err != nil || response.StatusCode != 200 {
		t.Fatalf("%v %v", response, err)
	}
	cookie := response.Header.Get("Set-Cookie")
	if !strings.Contains(cookie, "HttpOnly") || !strings.Contains(cookie, "SameSite=Strict") {
		t.Errorf("the cookie is %s", cookie)
	}
	for origin, want := range map[string]int{"": 403, "http://evil.example": 403, "null": 403, s.Address: 404} {
		request, _ := http.NewRequest("POST", s.Address+"/api/workflows/a/pause", nil)
		if origin != "" {
			request.Header.Set("Origin", origin)
		}
		response, err := browser.Do(request)
		if err != nil || response.StatusCode != want {
			t.Errorf("from %q: %v %v, want %d", origin, response.Status, err, want)
		}
	}
	if response, err := browser.Get(s.Address + "/api/workflows"); err != nil || response.StatusCode != 200 {
		t.Errorf("reading with the session: %v %v", response, err)
	}
	// The code was used.
	if status, _, answer := ask(t, s, "POST", "/api/session", fmt.Sprintf(`{"code": %q}`, code)); status != 401 || !strings.Contains(answer, "used already") {
		t.Errorf("the code again: %d %s", status, answer)
	}
	if status, _, _ := ask(t, s, "POST", "/api/session", `{"token": "wrong"}`); status != 401 {
		t.Errorf("a wrong token opened a session: %d", status)
	}
	request, _ := http.NewRequest("DELETE", s.Address+"/api/session", nil)
	request.Header.Set("Origin", s.Address)
	if response, err := browser.Do(request); err != nil || response.StatusCode >= 300 {
		t.Errorf("signing out: %v %v", response, err)
	}
	if response, err := browser.Get(s.Address + "/api/workflows"); err != nil || response.StatusCode != 401 {
		t.Errorf("reading after signing out: %v %v", response, err)
	}
}

func TestTheTokenIsItsOwnersAlone(t *testing.T) {
	s := testkit.Start(t)
	for name, want := range map[string]os.FileMode{"/token": 0o600, "": os.ModeDir | 0o700} {
		info, err := os.Stat(s.Dir + name)
		if err != nil || info.Mode() != want {
			t.Errorf("%s has mode %v, want %v (%v)", s.Dir+name, info.Mode(), want, err)
		}
	}
	dir, token := s.Dir, s.Token
	s.Stop(t)
	if again := testkit.StartIn(t, dir); again.Token != token {
		t.Error("another start has another token")
	}
}

func TestProblemsSayWhatToDo(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: gauge-hourly\nparams: {station: {type: choice, of: [G01, G02], required: true}}\ntasks: {collect: {shell: 'true'}}")
	s.End(t, s.Begin(t, "gauge-hourly", "station=G01").ID)
	bearer := "Authorization: Bearer " + s.Token
	for _, c := range []struct {
		method, path, body string
		status             int
		wanted             string
	}{
		{"GET", "/api/workflows/gauge-houly", "", 404, `did you mean \"gauge-hourly\"?`},
		{"GET", "/api/runs/gauge-houly:1", "", 404, `did you mean \"gauge-hourly\"?`},
		{"GET", "/api/runs/gauge-hourly:99", "", 404, "there are runs gauge-hourly:1 to gauge-hourly:1"},
		{"GET", "/api/runs/gauge-hourly:x", "", 422, "write it as gauge-hourly:1"},
		{"GET", "/api/runs/gauge-hourly:1/log?task=colect", "", 404, `did you mean \"collect\"?`},
		{"GET", "/api/runs/gauge-hourly:1/log?task=collect&attempt=7", "", 404, "attempts 1 to 1"},
		{"GET", "/api/runs?workflow=gauge", "", 404, "gauge-hourly"},
		{"GET", "/api/runs?state=fine", "", 422, "expected"},
		{"GET", "/api/runs?limit=9999", "", 422, "500"},
		{"POST", "/api/workflows/gauge-hourly/runs", "{}", 409, `param \"station\" is required`},
		{"POST", "/api/workflows/gauge-hourly/runs", `{"texts": {"station": "G09"}}`, 409, "is not one of: G01, G02"},
		{"POST", "/api/workflows/gauge-hourly/runs", `{"texts": {"statoin": "G01"}}`, 409, `did you mean \"station\"?`},
		{"POST", "/api/workflows/gauge-hourly/runs", `{"texts": {"station": "G01"}, "window": {"start": "2026-01-02T00:00:00Z", "end": "2026-01-01T00:00:00Z"}}`, 409, "its end must come after its start"},
		{"POST", "/api/workflows/gauge-hourly/runs", `{"window": 3}`, 422, "window"},
		{"POST", "/api/workflows/gauge-hourly/runs", `{not json`, 400, ""},
		{"POST", "/api/runs/gauge-hourly:1/stop", "{}", 409, "has ended already"},
		{"POST", "/api/apply", `{"files": [{"path": "w.yaml", "text": "workflow: w\ntaks: {}"}]}`, 422, `did you mean \"tasks\"?`},
		{"POST", "/api/apply", `{"files": [{"path": "lantern.yaml", "text": "project: p"}]}`, 409, "there is no workflow in it"},
		{"POST", "/api/apply", `{"files": [{"path": "w.yaml", "text": "workflow: w\ntasks: {a: {exec: [x]}}"}], "parcel": "abc"}`, 409, "was not sent"},
		{"POST", "/api/apply", `{"files": [{"path": "w.yaml", "text": "workflow: w\nparams: {a: {type: text, required: true}}\nstarts: [{every: 1h}]\ntasks: {a: {exec: [x]}}"}]}`, 409, "give the param a default"},
		{"POST", "/api/parcels", "not an archive", 422, "not gzip-compressed"},
		{"GET", "/api/nothing", "", 404, "/api/openapi.json lists what there is"},
		{"GET", "/assets/nothing.js", "", 404, "no file"},
	} {
		status, contentType, answer := ask(t, s, c.method, c.path, c.body, bearer)
		if status != c.status || contentType != "application/problem+json" || !strings.Contains(answer, c.wanted) {
			t.Errorf("%s %s %s: %d %s %s, want %d and %q", c.method, c.path, c.body, status, contentType, answer, c.status, c.wanted)
		}
	}
}

func TestListsArePaged(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: a\ntasks: {t: {shell: 'true'}}")
	s.Apply(t, "workflow: b\nif_running: alongside\ntasks: {t: {shell: 'true'}}")
	var want []string
	for n := range 7 {
		want = append([]string{s.Begin(t, "a").ID}, want...)
		want = append([]string{s.Begin(t, "b").ID}, want...)
		_ = n
	}
	var got []string
	for before, pages := "", 0; pages == 0 || before != ""; pages++ {
		page, err := s.Runs(testkit.Context(t), client.RunsFilter{Limit: 3, Before: before})
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range page.Runs {
			got = append(got, r.ID)
		}
		before = page.Next
	}
	if strings.Join(got, " ") != strings.Join(want, " ") {
		t.Errorf("the pages hold\n%v, want\n%v", got, want)
	}
	for _, id := range want {
		s.End(t, id)
	}
	page, err := s.Runs(testkit.Context(t), client.RunsFilter{States: []string{"succeeded", "failed"}, Workflow: "a"})
	if err != nil || len(page.Runs) != 7 || page.Runs[0].Counts["succeeded"] != 1 {
		t.Errorf("%+v %v", page, err)
	}
	page, err = s.Runs(testkit.Context(t), client.RunsFilter{States: []string{"stopped"}})
	if err != nil || len(page.Runs) != 0 {
		t.Errorf("%+v %v", page, err)
	}
}

func TestAParcelMayBeLarge(t *testing.T) {
	s := testkit.Start(t)
	noise := make([]byte, 6<<20)
	random := rand.NewChaCha8([32]byte{1})
	_, _ = random.Read(noise)
	s.ApplyProject(t, "workflow: w\ntasks: {t: {shell: 'wc -c < noise'}}", map[string]string{"noise": string(noise)})
	run := s.End(t, s.Begin(t, "w").ID)
	if log := s.Log(t, run.ID, "t", 1); strings.TrimSpace(log) != fmt.Sprintf("out %d", len(noise)) {
		t.Errorf("the task found %s", log)
	}
}

// A log can be followed from any line while it grows, and ends when the attempt
// does.
func TestALogIsFollowedAsItGrows(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\ntasks: {t: {shell: 'for i in 1 2 3 4 5; do echo line $i; sleep 0.15; done'}}")
	run := s.Begin(t, "w")
	s.Until(t, run.ID, func(r client.Run) bool { return r.Counts["running"] == 1 })
	batches, text := 0, ""
	err := s.FollowLog(testkit.Context(t), run.ID, "t", 1, 1, func(lines []client.Line) error {
		batches++
		for _, l := range lines {
			text += fmt.Sprintf("%d %s\n", l.Number, l.Text)
		}
		return nil
	})
	if err != nil || text != "1 line 2\n2 line 3\n3 line 4\n4 line 5\n" || batches < 2 {
		t.Errorf("%v in %d batches:\n%s", err, batches, text)
	}
	page, err := s.LastLines(testkit.Context(t), run.ID, "t", 1, 2)
	if err != nil || page.Total != 5 || len(page.Lines) != 2 || page.Lines[0].Number != 3 || page.Open {
		t.Errorf("%+v %v", page, err)
	}
}

// The stream of server-sent events goes on behind a Last-Event-ID, as a browser
// sends it.
func TestServerSentEventsResume(t *testing.T) {
	s := testkit.Start(t)
	s.Apply(t, "workflow: w\ntasks: {t: {shell: 'true'}}")
	run := s.End(t, s.Begin(t, "w").ID)
	request, _ := http.NewRequestWithContext(testkit.Context(t), "GET", s.Address+"/api/stream?run="+run.ID, nil)
	request.Header.Set("Authorization", "Bearer "+s.Token)
	request.Header.Set("Last-Event-ID", "2")
	response, err := http.DefaultClient.Do(request)
	if err != nil || response.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatalf("%v %v", response, err)
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	var ids []string
	for lines.Scan() && len(ids) < 4 {
		if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			ids = append(ids, id)
		}
	}
	if strings.Join(ids, " ") != "3 4 5 6" {
		t.Errorf("behind 2 came %v", ids)
	}
}

// The console's page stands at every address of a view; its files do not leave
// their folder.
func TestTheConsoleIsServedAtEveryAddress(t *testing.T) {
	s := testkit.Start(t)
	for _, path := range []string{"/", "/workflows", "/runs/a:1", "/../../etc/passwd", "/%2e%2e/%2e%2e/etc/passwd"} {
		status, contentType, answer := ask(t, s, "GET", path, "")
		if status != 200 || !strings.HasPrefix(contentType, "text/html") || !strings.Contains(answer, "Wise Lantern") {
			t.Errorf("%s: %d %s %.80s", path, status, contentType, answer)
		}
	}
}
