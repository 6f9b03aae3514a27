// Package dispatch is the seam between the engine and the workers: work orders
// go out, reports and logs come in, over NATS JetStream.
//
// The Office is the service's end, a Courier the end of a worker. Streams, deliveries,
// acknowledgements and the noticing of repeats are JetStream's. It may import
// service/store only for the shape of log lines. What it keeps true: an order is
// given to one worker, however often it is sent; a worker hears that its report is
// there only when it is recorded.
package dispatch

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"wiselantern/core/definition"
	"wiselantern/service/store"
)

// AttemptID names one attempt; it is the id by which repeats of a message are known.
type AttemptID struct {
	Run     int64 `json:"run"`
	Task    int   `json:"task"`
	Attempt int   `json:"attempt"`
}

// String is the id in a form that fits into a file name.
func (id AttemptID) String() string {
	text := strconv.AppendInt(make([]byte, 0, 24), id.Run, 10)
	text = strconv.AppendInt(append(text, '.'), int64(id.Task), 10)
	return string(strconv.AppendInt(append(text, '.'), int64(id.Attempt), 10))
}

// ParseAttemptID reads what String writes.
func ParseAttemptID(text string) (id AttemptID, err error) {
	var rest string
	if n, _ := fmt.Sscanf(text, "%d.%d.%d%s", &id.Run, &id.Task, &id.Attempt, &rest); n != 3 || id.String() != text {
		return AttemptID{}, fmt.Errorf("%q is not the id of an attempt", text)
	}
	return id, nil
}

// Order asks a worker to execute an attempt.
type Order struct {
	AttemptID
	RunName  string            `json:"run_name"` // as in gauge-hourly:412
	TaskName string            `json:"task_name"`
	Kind     string            `json:"kind"`
	Exec     []string          `json:"exec,omitempty"`
	Shell    string            `json:"shell,omitempty"`
	Env      map[string]string `json:"env,omitempty"` // the task's own
	Params   map[string]string `json:"params,omitempty"`
	Marks    map[string]string `json:"marks,omitempty"`  // watermarks
	Parcel   string            `json:"parcel,omitempty"` // the hash of the folder of code
	Setup    *Setup            `json:"setup,omitempty"`  // what makes that folder ready; nil for nothing
	Timeout  time.Duration     `json:"timeout"`          // nanoseconds; 0 is no limit
	Later    bool              `json:"later,omitempty"`  // it lets all others go first
	Queue    string            `json:"queue,omitempty"`  // the line of work that it stands in; "" is DefaultQueue
	Claim    bool              `json:"claim,omitempty"`  // the worker asks before it begins
	Start    time.Time         `json:"window_start,omitzero"`
	End      time.Time         `json:"window_end,omitzero"`
	Trace    string            `json:"traceparent"` // W3C Trace Context, section 3.2
}

// Setup makes the folder of code ready, once a parcel and worker.
type Setup struct {
	Exec    []string          `json:"exec,omitempty"`
	Shell   string            `json:"shell,omitempty"`
	Env     map[string]string `json:"env,omitempty"`
	Timeout time.Duration     `json:"timeout"` // nanoseconds; 0 is no limit
}

// Started is a worker's word that it executes an attempt.
type Started struct {
	AttemptID
	Worker string    `json:"worker"`
	At     time.Time `json:"at"`
}

// Outcome is how an attempt ended, as the worker sees it.
type Outcome string

// The outcomes that a worker reports; the words are those of core/flow.
const (
	Succeeded Outcome = "succeeded"
	Failed    Outcome = "failed"
	Stopped   Outcome = "stopped"
	Lost      Outcome = "lost"
)

// Ended is a worker's report of an attempt.
type Ended struct {
	AttemptID
	Worker   string          `json:"worker"`
	Started  time.Time       `json:"started,omitzero"`
	At       time.Time       `json:"at"`
	Outcome  Outcome         `json:"outcome"`
	ExitCode *int            `json:"exit_code,omitempty"` // nil if it did not end by itself
	Error    string          `json:"error,omitempty"`
	Result   json.RawMessage `json:"result,omitempty"`
	CPU      time.Duration   `json:"cpu,omitempty"`  // processor time of its processes; 0 if none was there
	Peak     int64           `json:"peak,omitempty"` // bytes of memory that one of them had at most
}

// Log is some lines that an attempt printed; the first has the number First,
// counted from 0.
type Log struct {
	AttemptID
	First int          `json:"first"`
	Lines []store.Line `json:"lines"`
}

// DefaultQueue is the line of work of tasks that name no other.
const DefaultQueue = definition.DefaultQueue

// queue is the line of work of an order.
func (o Order) queue() string {
	if o.Queue == "" {
		return DefaultQueue
	}
	return o.Queue
}

// Held is an attempt that a worker executes.
type Held struct {
	AttemptID
	Started time.Time `json:"started,omitzero"` // zero if it has not begun
}

// Hello is what a worker says of itself, every few seconds.
type Hello struct {
	Name     string            `json:"name"`
	Instance string            `json:"instance"` // of the process: another each time that it starts
	Version  string            `json:"version"`
	PID      int               `json:"pid"`
	Local    bool              `json:"local,omitempty"` // it belongs to the service's data folder
	Since    time.Time         `json:"since"`
	Queues   []string          `json:"queues"`
	Labels   map[string]string `json:"labels,omitempty"`
	Slots    int               `json:"slots"`
	CPUs     int               `json:"cpus"`
	Load     float64           `json:"load"`             // of its machine, the mean of a minute
	Memory   int64             `json:"memory"`           // bytes of its machine in use; 0 if nobody knows
	Total    int64             `json:"total"`            // bytes of memory that its machine has
	Faults   []string          `json:"faults,omitempty"` // what is wrong with its machine
	Draining bool              `json:"draining,omitempty"`
	Bundles  bool              `json:"bundles,omitempty"` // it takes several orders in a message
	Holds    []Held            `json:"holds,omitempty"`
	Told     []AttemptID       `json:"told,omitempty"` // whose reports are not known to be recorded
}

// Answer is what the service says to a Hello.
type Answer struct {
	Stop     []AttemptID `json:"stop,omitempty"`     // those that it holds and nobody wants any more
	Recorded []AttemptID `json:"recorded,omitempty"` // of those that it told
	Drain    bool        `json:"drain,omitempty"`    // it is to take no more work
	Leave    bool        `json:"leave,omitempty"`    // and to end when it has none left
	Opened   time.Time   `json:"opened,omitzero"`    // when the streams were made; zero if they outlive the service
}
