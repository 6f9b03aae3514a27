package dispatch

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/nats-io/nats.go"
)

// pieceAsked asks for a piece of a parcel.
type pieceAsked struct {
	Name string `json:"name"`
	From int64  `json:"from"` // bytes
}

// The headers of an answer to it.
const (
	headerLast  = "Lantern-Last"  // there is no more
	headerError = "Lantern-Error" // why there is none
)

// PieceSize is how much of a parcel goes into one message, in bytes.
const PieceSize = 1 << 20

func (x *Office) parcel(m *nats.Msg) {
	x.group.Go(func() {
		answer := nats.NewMsg(m.Reply)
		var asked pieceAsked
		err := json.Unmarshal(m.Data, &asked)
		last := false
		if err == nil {
			answer.Data, last, err = x.Parcel(asked.Name, asked.From)
		}
		if err != nil {
			answer.Header.Set(headerError, err.Error())
		}
		if last {
			answer.Header.Set(headerLast, "yes")
		}
		_ = m.RespondMsg(answer) // who does not hear it asks again
	})
}

// Fetch fetches a parcel from the service, piece by piece.
func (c *Courier) Fetch(ctx context.Context, name string) (io.ReadCloser, error) {
	var whole bytes.Buffer
	for {
		text, err := json.Marshal(pieceAsked{name, int64(whole.Len())})
		if err != nil {
			return nil, err
		}
		asking, stop := context.WithTimeout(ctx, 4*HelloEvery)
		answer, err := c.nc.RequestWithContext(asking, subjectParcel, text)
		stop()
		if err != nil {
			return nil, fmt.Errorf("the service does not send it: %w", err)
		}
		if reason := answer.Header.Get(headerError); reason != "" {
			return nil, errors.New(reason)
		}
		whole.Write(answer.Data)
		if answer.Header.Get(headerLast) != "" {
			return io.NopCloser(&whole), nil
		}
	}
}

// LogPiece is some lines of a log, packed as they are kept.
type LogPiece struct {
	AttemptID
	First int    `json:"first"` // the number of its first line
	Count int    `json:"count"` // of lines
	Data  []byte `json:"data"`
}

// Deliver brings a piece of a log to the service, and returns when it is kept.
func (c *Courier) Deliver(ctx context.Context, p LogPiece) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	asking, stop := context.WithTimeout(ctx, 4*HelloEvery)
	defer stop()
	answer, err := c.nc.RequestWithContext(asking, subjectLog+c.name, text)
	if err != nil {
		return err
	}
	if len(answer.Data) > 0 {
		return errors.New(string(answer.Data))
	}
	return nil
}

func (x *Office) log(ctx context.Context, m *nats.Msg) {
	x.group.Go(func() {
		var p LogPiece
		err := json.Unmarshal(m.Data, &p)
		if err == nil {
			err = x.Keep(ctx, p)
		}
		answer := ""
		if err != nil {
			answer = err.Error()
		}
		_ = m.Respond([]byte(answer)) // who does not hear it says it again
	})
}
