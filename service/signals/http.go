package signals

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

const (
	// longestAnswer bounds what is read of an answer, in bytes.
	longestAnswer = 1 << 20
	// patience bounds how long an address or a database may take to answer.
	patience = 20 * time.Second
)

// asker asks addresses. It keeps no connection for the next time, for that is far
// away.
var asker = &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true}}

// seeAddress asks an address once.
func seeAddress(ctx context.Context, w *Watch) (sight Sight) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, w.Method, w.Address, strings.NewReader(w.Body))
	if err != nil {
		return Sight{Error: err.Error()}
	}
	for name, value := range w.Headers {
		request.Header.Set(name, value)
	}
	response, err := asker.Do(request)
	if err != nil {
		if ctx.Err() == context.DeadlineExceeded {
			return Sight{Error: fmt.Sprintf("no answer within %s", patience)}
		}
		if wrapped, ok := err.(*url.Error); ok {
			err = wrapped.Err
		}
		return Sight{Error: err.Error()}
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, longestAnswer+1))
	if err != nil {
		return Sight{Error: "its answer broke off: " + err.Error()}
	}
	sight.Status = response.StatusCode
	if len(body) > longestAnswer {
		sight.Error = fmt.Sprintf("it answered %s with more than %d bytes", response.Status, longestAnswer)
		return sight
	}
	headers := map[string]any{}
	for name := range response.Header {
		headers[strings.ToLower(name)] = response.Header.Get(name)
	}
	sight.Answer = map[string]any{"status": int64(response.StatusCode), "headers": headers, "body": readBody(body)}
	return sight
}

// readBody is a body as JSON, where it is that, or else as a text.
func readBody(body []byte) any {
	var value any
	if json.Unmarshal(body, &value) == nil {
		return value
	}
	return string(bytes.ToValidUTF8(body, []byte("\ufffd")))
}
