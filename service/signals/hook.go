package signals

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"wiselantern/core/definition"
	"wiselantern/core/expr"
	"wiselantern/core/match"
)

// Hook says how the requests of a sender that knows nothing of CloudEvents are
// checked and become events.
type Hook struct {
	Name            string            `json:"-"`
	Secret          string            `json:"-"`
	SignatureHeader string            `json:"signature_header"`
	SignaturePrefix string            `json:"signature_prefix"`
	TimeHeader      string            `json:"time_header"` // "": the signature is of the body alone
	Tolerance       time.Duration     `json:"tolerance"`
	Map             map[string]string `json:"map"` // attributes of the event, with ${expressions} on body and headers
	PerSecond       float64           `json:"per_second"`

	compiled map[string]*expr.Template
}

// What a hook has that does not say.
const (
	StandardSignatureHeader = "Lantern-Signature"
	StandardTimeHeader      = "Lantern-Timestamp"
	StandardTolerance       = 5 * time.Minute
	StandardPerSecond       = 50
	// LongestHookBody bounds the body of a request to a hook, in bytes.
	LongestHookBody = 1 << 20
)

// hookAttributes are what a hook can map.
var hookAttributes = []string{"id", "source", "type", "subject", "time", "data"}

// Check finds what is wrong with a hook. Its error says behind a semicolon what to
// do. It is to be called before Event.
func (h *Hook) Check() error {
	switch {
	case !definition.IsName(h.Name):
		return fmt.Errorf("%q cannot be the name of a hook; write small letters, digits and -, beginning with a letter", h.Name)
	case h.SignatureHeader == "":
		return errors.New("a hook without a signature would let everybody in; name the header that holds it")
	case h.Tolerance <= 0 || h.Tolerance > 24*time.Hour:
		return fmt.Errorf("the tolerance is %s; write more than 0s, and a day at most", h.Tolerance)
	case h.PerSecond <= 0 || h.PerSecond > 100_000:
		return fmt.Errorf("%g requests a second are none that could be let in; write a number from 0.01 to 100000", h.PerSecond)
	}
	env, err := expr.New(nil, nil)
	if err != nil {
		return err
	}
	for _, name := range []string{"body", "headers"} {
		if env, err = env.With(name); err != nil {
			return err
		}
	}
	h.compiled = map[string]*expr.Template{}
	for name, text := range h.Map {
		known := false
		for _, attribute := range hookAttributes {
			known = known || attribute == name
		}
		if !known {
			return fmt.Errorf("a hook cannot map %q; it maps %s", name, strings.Join(hookAttributes, ", "))
		}
		template, mistakes := env.Template(text, func(expr.Task) bool { return false })
		if mistakes != nil {
			return fmt.Errorf("the map of %s, %s: %s; %s", name, text, mistakes[0].Message, mistakes[0].Fix)
		}
		h.compiled[name] = template
	}
	return nil
}

// Refused says why a request to a hook is refused, by the status of HTTP.
type Refused struct {
	Status int
	Reason string
}

func (r *Refused) Error() string { return r.Reason }

// Verify checks the signature of a request, an HMAC with SHA-256 (RFC 2104) in
// hexadecimal over STAMP.BODY, or over the body alone if the hook has no time header.
// An older stamp than the tolerance is refused, for it may be a request that somebody
// has kept and sends again.
func (h *Hook) Verify(header func(string) string, body []byte, now time.Time) error {
	given, prefixed := strings.CutPrefix(strings.TrimSpace(header(h.SignatureHeader)), h.SignaturePrefix)
	if given == "" {
		return &Refused{401, fmt.Sprintf("it has no signature; sign the body and send the signature in %s", h.SignatureHeader)}
	}
	mac := hmac.New(sha256.New, []byte(h.Secret))
	if h.TimeHeader != "" {
		stamp := strings.TrimSpace(header(h.TimeHeader))
		at, err := readStamp(stamp)
		if err != nil {
			return &Refused{401, fmt.Sprintf("its time stamp in %s is %q; send Unix seconds, or RFC 3339", h.TimeHeader, stamp)}
		}
		if off := now.Sub(at); off.Abs() > h.Tolerance {
			word := "old"
			if off < 0 {
				word = "ahead"
			}
			return &Refused{401, fmt.Sprintf("its time stamp is %s %s, over the tolerance of %s; set the clock, or sign it anew", off.Abs().Round(time.Second), word, h.Tolerance)}
		}
		mac.Write([]byte(stamp + "."))
	}
	mac.Write(body)
	signature, err := hex.DecodeString(given)
	if err != nil || !prefixed || !hmac.Equal(signature, mac.Sum(nil)) {
		what := "the body"
		if h.TimeHeader != "" {
			what = "STAMP.BODY"
		}
		return &Refused{401, fmt.Sprintf("its signature is not that of %s with the secret of the hook: HMAC with SHA-256, in hexadecimal behind %q", what, h.SignaturePrefix)}
	}
	return nil
}

func readStamp(text string) (time.Time, error) {
	if seconds, err := strconv.ParseFloat(text, 64); err == nil && math.Abs(seconds) < 1e11 {
		return time.UnixMilli(int64(seconds * 1000)), nil
	}
	return time.Parse(time.RFC3339, text)
}

// Event makes the event of a request. Its id is what the map says, or else the hash
// of what was signed: the same request is the same event.
func (h *Hook) Event(header func(string) string, headers map[string]any, body []byte) (e match.Event, err error) {
	facts := &expr.Facts{Known: map[string]any{"body": readBody(body), "headers": headers}}
	sum := sha256.Sum256(append([]byte(header(h.TimeHeader)+"."), body...))
	e = match.Event{ID: hex.EncodeToString(sum[:16]), Source: "/hooks/" + h.Name, Type: "hook." + h.Name, Data: readBody(body), DataType: "application/json"}
	for name, template := range h.compiled {
		value, err := template.Value(facts)
		if err != nil {
			return e, &Refused{422, fmt.Sprintf("the %s of its event cannot be told: %v", name, err)}
		}
		text := expr.Text(value)
		switch name {
		case "id":
			e.ID = text
		case "source":
			e.Source = text
		case "type":
			e.Type = text
		case "subject":
			e.Subject = text
		case "time":
			if e.Time, err = readStamp(text); err != nil {
				return e, &Refused{422, fmt.Sprintf("the time of its event is %q; map it to Unix seconds, or RFC 3339", text)}
			}
		case "data":
			if e.Data, err = jsonOf(value); err != nil {
				return e, &Refused{422, fmt.Sprintf("the data of its event: %v", err)}
			}
		}
	}
	return e, nil
}

// jsonOf is a value of an expression as JSON has it.
func jsonOf(value any) (out any, err error) {
	text, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(text, &out)
}
