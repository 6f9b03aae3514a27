package store

import (
	"encoding/binary"
	"errors"
	"time"
)

// Line is one line that a task printed, or a part of one that is longer than a
// line may be here.
type Line struct {
	At     time.Time // when its first byte was read
	Error  bool      // from standard error
	Joined bool      // the line goes on in the next Line of the same stream
	Text   []byte    // without the line feed; any bytes
}

const (
	flagError  = 1 << 0
	flagJoined = 1 << 1
)

var errDamaged = errors.New("a chunk of the log is damaged")

// packLines writes lines one after the other: the moment in microseconds since
// the line before as a signed varint, a
// byte of flags, the length as a varint, the text.
func packLines(lines []Line) []byte {
	var out []byte
	last := int64(0)
	for _, l := range lines {
		at := l.At.UnixMicro()
		out = binary.AppendVarint(out, at-last)
		last = at
		var flags byte
		if l.Error {
			flags |= flagError
		}
		if l.Joined {
			flags |= flagJoined
		}
		out = append(out, flags)
		out = binary.AppendUvarint(out, uint64(len(l.Text)))
		out = append(out, l.Text...)
	}
	return out
}

// unpackLines reads what packLines wrote. The texts share the memory of data.
func unpackLines(data []byte, count int) ([]Line, error) {
	lines := make([]Line, 0, count)
	last := int64(0)
	for len(data) > 0 {
		delta, n := binary.Varint(data)
		if n <= 0 || len(data) < n+1 {
			return nil, errDamaged
		}
		last += delta
		flags := data[n]
		data = data[n+1:]
		size, n := binary.Uvarint(data)
		if n <= 0 || uint64(len(data)-n) < size {
			return nil, errDamaged
		}
		lines = append(lines, Line{At: time.UnixMicro(last).UTC(), Error: flags&flagError != 0, Joined: flags&flagJoined != 0, Text: data[n : n+int(size)]})
		data = data[n+int(size):]
	}
	return lines, nil
}
