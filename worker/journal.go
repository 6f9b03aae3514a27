package worker

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"wiselantern/service/dispatch"
)

// journal is what a worker's home knows of the attempts that its worker has taken: a
// file of lines, which grows only. A line is +ID for one that was taken, =REPORT for how
// it ended, -ID when that is recorded by the service. So the next worker knows what
// became of each, however this one ends.
type journal struct {
	name string

	mu   sync.Mutex
	file *os.File
	size int64
	torn bool   // the last line was not written whole
	late []byte // lines that go with the next one: without them, a report is said once more
	open map[dispatch.AttemptID]*dispatch.Ended
}

const (
	journalName = "journal"
	// A journal of this many bytes is written anew, with what is still open alone.
	journalFull = 1 << 20
)

// openJournal opens the journal of a home, which is made if it is not there.
func openJournal(home string) (*journal, error) {
	j := &journal{name: filepath.Join(home, journalName)}
	var err error
	if j.open, err = readJournal(home); err != nil {
		return nil, err
	}
	if j.file, err = os.OpenFile(j.name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600); err != nil {
		return nil, err
	}
	info, err := j.file.Stat()
	if err != nil {
		j.file.Close()
		return nil, err
	}
	j.size, j.torn = info.Size(), info.Size() > 0 // an empty line does no harm
	return j, nil
}

// readJournal tells the attempts of a home that are not known to be recorded, and their
// reports; nil for one that has none.
func readJournal(home string) (map[dispatch.AttemptID]*dispatch.Ended, error) {
	open := map[dispatch.AttemptID]*dispatch.Ended{}
	file, err := os.Open(filepath.Join(home, journalName))
	if errors.Is(err, fs.ErrNotExist) {
		return open, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the journal of a worker cannot be read: %w", err)
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 4*maxResult)
	for lines.Scan() {
		line := lines.Bytes()
		if len(line) == 0 {
			continue
		}
		switch id, err := dispatch.ParseAttemptID(string(line[1:])); {
		case line[0] == '+' && err == nil:
			open[id] = nil
		case line[0] == '-' && err == nil:
			delete(open, id)
		case line[0] == '=':
			var report dispatch.Ended
			if json.Unmarshal(line[1:], &report) == nil { // one that was not written whole is none
				open[report.AttemptID] = &report
			}
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("the journal of a worker cannot be read: %w", err)
	}
	return open, nil
}

// take notes that an attempt is taken.
func (j *journal) take(id dispatch.AttemptID) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.open[id] = nil
	return j.write('+', []byte(id.String()))
}

// end notes how an attempt ended. It is known in this process even if the disk does not
// take it.
func (j *journal) end(report dispatch.Ended) error {
	text, err := json.Marshal(report)
	if err != nil {
		return err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	j.open[report.AttemptID] = &report
	return j.write('=', text)
}

// recorded notes that the report of an attempt is recorded by the service.
func (j *journal) recorded(id dispatch.AttemptID) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.open, id)
	j.late = fmt.Appendf(j.late, "-%s\n", id)
	if j.size+int64(len(j.late)) >= journalFull {
		return j.renew()
	}
	return nil
}

func (j *journal) write(kind byte, text []byte) error {
	lines := make([]byte, 0, 1+len(j.late)+len(text)+2)
	if j.torn {
		lines = append(lines, '\n')
	}
	return j.append(append(append(append(append(lines, j.late...), kind), text...), '\n'))
}

// append writes lines, among them the late ones.
func (j *journal) append(lines []byte) error {
	n, err := j.file.Write(lines)
	j.size += int64(n)
	j.torn = n > 0 && err != nil || j.torn && n == 0
	if err == nil {
		j.late = j.late[:0]
	}
	return err
}

// renew writes the journal anew, with what is still open. Without room for that it stays
// as it is, and is renewed when it has grown as much again.
func (j *journal) renew() error {
	var text bytes.Buffer
	for id, report := range j.open {
		if report == nil {
			fmt.Fprintf(&text, "+%s\n", id)
			continue
		}
		line, err := json.Marshal(report)
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "=%s\n", line)
	}
	j.size = int64(text.Len()) // from where it grows
	if err := writeWhole(j.name, text.Bytes()); err != nil {
		return fmt.Errorf("the journal cannot be written anew: %w", err)
	}
	file, err := os.OpenFile(j.name, os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("the journal cannot be opened again: %w", err)
	}
	j.file.Close()
	j.file, j.torn, j.late = file, false, j.late[:0]
	return nil
}

func (j *journal) close() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var err error
	if len(j.late) > 0 {
		err = j.append(append([]byte("\n"), j.late...)) // an empty line does no harm
	}
	return errors.Join(err, j.file.Close())
}

// writeWhole writes a file that is either there whole or not at all.
func writeWhole(name string, text []byte) error {
	if err := os.WriteFile(name+".part", text, 0o600); err != nil {
		return err
	}
	return os.Rename(name+".part", name)
}
