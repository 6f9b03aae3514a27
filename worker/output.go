package worker

import (
	"bytes"
	"errors"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"wiselantern/service/store"
)

// output takes what a task prints and sends it on in chunks of lines. It holds
// about maxHeld bytes: a task that prints faster than its lines are kept waits
// in its own write.
type output struct {
	send func([]store.Line)

	mu      sync.Mutex
	room    *sync.Cond    // something was sent, or the output is closed
	filled  chan struct{} // there are lines to be sent
	full    chan struct{} // there are enough of them for a chunk
	lines   []store.Line
	arena   []byte // holds the texts of lines
	held    int
	partial [2]partial
	last    string        // the last line of standard error with anything in it
	given   bool          // up: nothing is taken any more
	ending  chan struct{} // closed when all has been read

	pipes   [2]int // the ends that are read; -1 when all of it is read, or a file has it
	readers sync.WaitGroup
	ends    [2]*os.File   // those that goroutines read
	sent    chan struct{} // closed when all is sent
}

// partial is the beginning of a line whose end has not been read.
type partial struct {
	text []byte
	at   time.Time
}

const (
	maxLine   = 64 << 10               // bytes; a longer line is kept in parts
	maxQuoted = 300                    // bytes of a line that a reason quotes
	maxHeld   = 1 << 20                // bytes
	fullChunk = 128 << 10              // bytes; sent without waiting for more
	waitMore  = 100 * time.Millisecond // how long a chunk waits for more lines
)

func newOutput(send func([]store.Line)) *output {
	o := &output{send: send, pipes: [2]int{-1, -1}}
	o.room = sync.NewCond(&o.mu)
	return o
}

// open makes the pipes, and returns the ends for the process, which the caller closes.
func (o *output) open() (stdout, stderr uintptr, err error) {
	var ends [2][2]int
	for i := range ends {
		if err := unix.Pipe2(ends[i][:], unix.O_CLOEXEC); err != nil {
			if i > 0 {
				unix.Close(ends[0][1])
			}
			o.close(0)
			return 0, 0, os.NewSyscallError("pipe2", err)
		}
		o.pipes[i] = ends[i][0]
	}
	return uintptr(ends[0][1]), uintptr(ends[1][1]), nil
}

// blockSize is how much is read at once, in bytes.
const blockSize = 32 << 10

var blocks = sync.Pool{New: func() any { return new([blockSize]byte) }}

// early reads what a process prints in its first moments, and tells whether both have
// ended by then, the process and its output. Most short tasks have: for them, this thread
// is all that waits. The process is given by its handle.
func (o *output) early(process int, longest time.Duration) (over bool) {
	block := blocks.Get().(*[blockSize]byte)
	defer blocks.Put(block)
	waiting := []unix.PollFd{{Fd: int32(o.pipes[0]), Events: unix.POLLIN}, {Fd: int32(o.pipes[1]), Events: unix.POLLIN}, {Fd: int32(process), Events: unix.POLLIN}}
	until, ended := time.Now().Add(longest), false
	for o.held < fullChunk {
		patience := 0
		if !ended {
			patience = int(max(time.Until(until).Milliseconds(), 0))
		}
		came, err := unix.Poll(waiting, patience)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || came == 0 {
			return false // it goes on, or something that it started has its output
		}
		for i := range o.pipes {
			switch is := waiting[i].Revents; {
			case is&unix.POLLIN != 0: // the only one who reads is not kept waiting
				o.readOnce(i, block[:])
			case is != 0:
				o.over(i)
			}
			waiting[i].Fd = int32(o.pipes[i])
		}
		if waiting[2].Revents != 0 {
			ended, waiting[2].Fd = true, -1
		}
		if ended && o.pipes[0] < 0 && o.pipes[1] < 0 {
			return true
		}
	}
	return false
}

// readOnce takes what is there of a stream.
func (o *output) readOnce(stream int, block []byte) {
	n, err := unix.Read(o.pipes[stream], block)
	switch {
	case n > 0:
		o.add(stream, block[:n])
	case !errors.Is(err, unix.EINTR):
		o.over(stream)
	}
}

// over is the end of a stream.
func (o *output) over(stream int) {
	unix.Close(o.pipes[stream])
	o.pipes[stream] = -1
	o.endLine(stream)
}

// follow goes on reading, and sends on what comes, until close.
func (o *output) follow() {
	o.filled, o.full, o.ending, o.sent = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{}), make(chan struct{})
	if len(o.lines) > 0 {
		signal(o.filled)
	}
	for i, pipe := range o.pipes {
		if pipe >= 0 {
			_ = unix.SetNonblock(pipe, true) // it is waited on without a thread
			o.ends[i], o.pipes[i] = os.NewFile(uintptr(pipe), "output"), -1
			o.readers.Go(func() { o.read(i) })
		}
	}
	go o.forward()
}

func (o *output) read(stream int) {
	block := blocks.Get().(*[blockSize]byte)
	defer blocks.Put(block)
	for {
		n, err := o.ends[stream].Read(block[:])
		if n > 0 && !o.add(stream, block[:n]) || err != nil {
			break
		}
	}
	o.endLine(stream)
}

// endLine ends the last line of a stream.
func (o *output) endLine(stream int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if p := &o.partial[stream]; len(p.text) > 0 {
		o.line(stream, p.at, p.text, false)
		p.text = nil
	}
}

// add cuts what was read into lines. It is false if nobody wants more.
func (o *output) add(stream int, data []byte) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	for o.held > maxHeld && !o.given {
		o.room.Wait()
	}
	if o.given {
		return false
	}
	now := time.Now()
	p := &o.partial[stream]
	for len(data) > 0 {
		end := bytes.IndexByte(data, '\n')
		part := data
		if end >= 0 {
			part = data[:end]
		}
		if over := len(p.text) + len(part) - maxLine; over > 0 {
			part, end = part[:len(part)-over], -1
		}
		if len(p.text) == 0 {
			p.at = now
		}
		switch {
		case end >= 0:
			o.line(stream, p.at, append(p.text, part...), false)
			p.text = p.text[:0]
			data = data[end+1:]
		case len(p.text)+len(part) == maxLine:
			o.line(stream, p.at, append(p.text, part...), true)
			p.text = p.text[:0]
			data = data[len(part):]
			if len(data) > 0 && data[0] == '\n' { // the line ends just here: the last part is not joined
				o.lines[len(o.lines)-1].Joined = false
				data = data[1:]
			}
		default:
			p.text = append(p.text, part...)
			data = nil
		}
	}
	return true
}

func (o *output) line(stream int, at time.Time, text []byte, joined bool) {
	if stream == 1 && len(bytes.TrimSpace(text)) > 0 {
		o.last = string(bytes.TrimSpace(text[:min(len(text), maxQuoted)]))
	}
	if len(o.arena)+len(text) > cap(o.arena) {
		o.arena = make([]byte, 0, max(fullChunk, len(text)))
	}
	start := len(o.arena)
	o.arena = append(o.arena, text...)
	o.lines = append(o.lines, store.Line{At: at, Error: stream == 1, Joined: joined, Text: o.arena[start:len(o.arena):len(o.arena)]})
	o.held += len(text) + 64
	signal(o.filled)
	if o.held >= fullChunk {
		signal(o.full)
	}
}

// signal signals to whoever listens, nobody if to is nil.
func signal(to chan struct{}) {
	select {
	case to <- struct{}{}:
	default: // it is signalled already
	}
}

// lastError is the last line of standard error, as far as a reason quotes it.
func (o *output) lastError() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.ToValidUTF8(o.last, "\uFFFD")
}

// forward sends the lines on, several at a time.
func (o *output) forward() {
	defer close(o.sent)
	for range o.filled {
		o.mu.Lock()
		wait := o.held < fullChunk
		o.mu.Unlock()
		if wait {
			select {
			case <-time.After(waitMore):
			case <-o.full:
			case <-o.ending:
			}
		}
		o.mu.Lock()
		lines := o.lines
		o.lines, o.arena = nil, nil
		o.mu.Unlock()
		if len(lines) > 0 {
			o.send(lines)
		}
		o.mu.Lock()
		for _, l := range lines {
			o.held -= len(l.Text) + 64
		}
		o.room.Broadcast()
		o.mu.Unlock()
	}
}

// close waits for the end of the output, at most that long if something holds
// it open, and returns when all of it is sent. It is false if something did.
func (o *output) close(patience time.Duration) (ended bool) {
	ended = true
	if o.sent == nil { // nobody follows it
		for _, pipe := range o.pipes {
			if pipe >= 0 {
				unix.Close(pipe)
			}
		}
		if len(o.lines) > 0 {
			o.send(o.lines)
		}
		return true
	}
	all := make(chan struct{})
	go func() {
		o.readers.Wait()
		close(all)
	}()
	select {
	case <-all:
	case <-o.quiet(patience, all):
		ended = false
		for _, end := range o.ends {
			if end != nil {
				end.Close() // ends the readers
			}
		}
		o.mu.Lock()
		o.given = true
		o.room.Broadcast()
		o.mu.Unlock()
		<-all
	}
	close(o.ending)
	signal(o.filled)
	close(o.filled)
	<-o.sent
	for _, end := range o.ends {
		if end != nil {
			end.Close()
		}
	}
	return ended
}

// quiet is closed when the pipes have had nothing to read for that long: what
// was printed before the process ended is still to be read, however much it is.
func (o *output) quiet(patience time.Duration, all <-chan struct{}) <-chan struct{} {
	silent := make(chan struct{})
	go func() {
		last, since := progress{}, time.Now()
		for {
			select {
			case <-all:
				return
			case <-time.After(50 * time.Millisecond):
			}
			if now := o.progress(); now != last || now.held > maxHeld { // over it, the reader waits, not the writer
				last, since = now, time.Now()
			} else if time.Since(since) >= patience {
				close(silent)
				return
			}
		}
	}()
	return silent
}

// progress changes whenever something was read or sent.
type progress struct{ held, partial int }

func (o *output) progress() progress {
	o.mu.Lock()
	defer o.mu.Unlock()
	return progress{o.held, len(o.partial[0].text) + len(o.partial[1].text)}
}
