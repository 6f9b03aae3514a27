package match

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"time"
	"unicode/utf8"
)

// Event is something that happened outside, with the context attributes of
// CloudEvents 1.0. An event is known by its source and its id together
// (CloudEvents 1.0, 3.1).
type Event struct {
	ID         string
	Source     string // a URI reference
	Type       string
	Subject    string    // "" if it has none
	Time       time.Time // zero if it has none
	DataType   string    // datacontenttype
	DataSchema string
	Extensions map[string]string // further attributes, by their names
	Data       any               // JSON, or a text of another type; nil if it has none
}

// Limits of an event. What a source sends is kept for as long as the records are.
const (
	MostData      = 256 << 10 // bytes of its data as JSON
	longestName   = 1000      // of each attribute, in bytes
	mostExtension = 50
)

// Problem tells what is wrong with an event, nil if nothing is.
func (e Event) Problem() error {
	for _, required := range []struct{ name, value string }{{"id", e.ID}, {"source", e.Source}, {"type", e.Type}} {
		if required.value == "" {
			return fmt.Errorf("the event has no %s; every event has an id, a source and a type (CloudEvents 1.0, 3.1)", required.name)
		}
	}
	attributes := maps.Clone(e.Extensions)
	if attributes == nil {
		attributes = map[string]string{}
	}
	if len(attributes) > mostExtension {
		return fmt.Errorf("the event has %d attributes of its own, over the limit of %d; put them into its data", len(attributes), mostExtension)
	}
	for name, value := range map[string]string{"id": e.ID, "source": e.Source, "type": e.Type, "subject": e.Subject} {
		attributes[name] = value
	}
	for name, value := range attributes {
		switch {
		case len(value) > longestName:
			return fmt.Errorf("the %s of the event has %d bytes, over the limit of %d", name, len(value), longestName)
		case !utf8.ValidString(value) || strings.ContainsFunc(value, func(c rune) bool { return c < ' ' || c == 0x7f }):
			return fmt.Errorf("the %s of the event holds signs that no attribute may have; write plain text", name)
		}
	}
	return nil
}

// MarshalJSON writes the JSON event format of CloudEvents 1.0.
func (e Event) MarshalJSON() ([]byte, error) {
	all := map[string]any{}
	for name, value := range e.Extensions {
		all[name] = value
	}
	all["specversion"], all["id"], all["source"], all["type"] = "1.0", e.ID, e.Source, e.Type
	for name, value := range map[string]string{"subject": e.Subject, "datacontenttype": e.DataType, "dataschema": e.DataSchema} {
		if value != "" {
			all[name] = value
		}
	}
	if !e.Time.IsZero() {
		all["time"] = e.Time.UTC().Format(time.RFC3339Nano)
	}
	if e.Data != nil {
		all["data"] = e.Data
	}
	return json.Marshal(all)
}

// UnmarshalJSON reads the JSON event format of CloudEvents 1.0. Attributes of types
// other than text are kept as their text.
func (e *Event) UnmarshalJSON(text []byte) error {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		return err
	}
	*e = Event{}
	var version, moment string
	known := map[string]*string{"specversion": &version, "id": &e.ID, "source": &e.Source, "type": &e.Type, "subject": &e.Subject, "time": &moment,
		"datacontenttype": &e.DataType, "dataschema": &e.DataSchema}
	for name, raw := range all {
		if name == "data" {
			if err := json.Unmarshal(raw, &e.Data); err != nil {
				return err
			}
			continue
		}
		if name == "data_base64" { // JSON event format 1.0, 3.1.1
			var data []byte
			if err := json.Unmarshal(raw, &data); err != nil {
				return fmt.Errorf("the data_base64 of the event is not Base64")
			}
			if json.Unmarshal(data, &e.Data) != nil {
				e.Data = strings.ToValidUTF8(string(data), "\ufffd")
			}
			continue
		}
		if into := known[name]; into != nil {
			if err := json.Unmarshal(raw, into); err != nil {
				return fmt.Errorf("the %s of the event is not a text", name)
			}
			continue
		}
		if string(raw) == "null" {
			continue
		}
		var plain string
		if json.Unmarshal(raw, &plain) != nil {
			plain = string(raw)
		}
		if e.Extensions == nil {
			e.Extensions = map[string]string{}
		}
		e.Extensions[name] = plain
	}
	if version != "1.0" && version != "" {
		return fmt.Errorf("the event says specversion %q; 1.0 is what is known here", version)
	}
	if moment != "" {
		at, err := time.Parse(time.RFC3339, moment)
		if err != nil {
			return fmt.Errorf("the time of the event is %q; write it as in 2026-03-28T06:00:00Z (RFC 3339)", moment)
		}
		e.Time = at.UTC()
	}
	return nil
}

// Known is the event as expressions see it.
func (e Event) Known() map[string]any {
	known := map[string]any{"id": e.ID, "source": e.Source, "type": e.Type, "subject": e.Subject, "data": e.Data}
	if !e.Time.IsZero() {
		known["time"] = e.Time
	}
	for name, value := range e.Extensions {
		if _, taken := known[name]; !taken {
			known[name] = value
		}
	}
	return known
}
