package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"
)

// LogOf names the log of one attempt.
type LogOf struct {
	Run     int64
	Task    int
	Attempt int
}

// Chunk is some lines of a log, the first of which has the number First (from 0).
type Chunk struct {
	Of    LogOf
	First int
	Lines []Line
}

// Logs keeps what tasks print. All methods may be called from any goroutine.
type Logs struct {
	write, read *sqlx.DB
	pack        *zstd.Encoder
	unpack      *zstd.Decoder
	inbox       chan appending
	done        chan struct{}

	mu      sync.Mutex
	waiting map[LogOf]chan struct{} // closed when the log has grown
}

type appending struct {
	chunk Packed
	reply chan error
}

// OpenLogs opens a database of logs, and makes it if it is not there. Several
// processes may have it open.
func OpenLogs(ctx context.Context, name string) (*Logs, error) {
	// A log may lose its last moments when the machine loses power; that is
	// the price for never delaying a commit of records.
	write, err := openDatabase(ctx, name, "NORMAL", "&_auto_vacuum=incremental", logMigrations, "logmigrations")
	if err != nil {
		return nil, err
	}
	read, err := sqlx.Open("sqlite3", "file:"+name+"?mode=ro&_busy_timeout=5000&_query_only=on")
	if err != nil {
		return nil, errors.Join(err, write.Close())
	}
	read.SetMaxOpenConns(4)
	pack, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true))
	if err != nil {
		return nil, err
	}
	unpack, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(2))
	if err != nil {
		return nil, err
	}
	l := &Logs{write: write, read: read, pack: pack, unpack: unpack,
		inbox: make(chan appending, 64), done: make(chan struct{}), waiting: map[LogOf]chan struct{}{}}
	go l.loop()
	return l, nil
}

// Close ends it, once what came in is recorded.
func (l *Logs) Close() error {
	close(l.inbox)
	<-l.done
	return errors.Join(l.read.Close(), l.write.Close())
}

// Append records a chunk and returns when it is committed, so that a task that
// prints faster than the disk takes it is slowed down, and only that one. A
// chunk that is there already changes nothing.
func (l *Logs) Append(ctx context.Context, chunk Chunk) error {
	return l.AppendPacked(ctx, Packed{Of: chunk.Of, First: chunk.First, Count: len(chunk.Lines), Data: l.pack.EncodeAll(packLines(chunk.Lines), nil)})
}

// Packed is a chunk as it is kept.
type Packed struct {
	Of    LogOf
	First int
	Count int
	Data  []byte
}

// AppendPacked is Append for a chunk that another one has packed.
func (l *Logs) AppendPacked(ctx context.Context, chunk Packed) error {
	a := appending{chunk: chunk, reply: make(chan error, 1)}
	select {
	case l.inbox <- a:
	case <-ctx.Done():
		return ctx.Err()
	}
	return <-a.reply
}

// loop commits what has come in while the last commit was written.
func (l *Logs) loop() {
	defer close(l.done)
	for first := range l.inbox {
		batch := []appending{first}
		for more := true; more && len(batch) < cap(l.inbox); {
			select {
			case next, ok := <-l.inbox:
				if more = ok; ok {
					batch = append(batch, next)
				}
			default:
				more = false
			}
		}
		err := l.commit(batch)
		for _, a := range batch {
			a.reply <- err
			if err == nil {
				l.Grown(a.chunk.Of)
			}
		}
	}
}

func (l *Logs) commit(batch []appending) error {
	tx, err := l.write.Beginx()
	if err != nil {
		return fmt.Errorf("record to logs.db: %w", err)
	}
	for _, a := range batch {
		_, err = tx.Exec(`INSERT INTO chunks (run, task, attempt, first_line, lines, data) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
			a.chunk.Of.Run, a.chunk.Of.Task, a.chunk.Of.Attempt, a.chunk.First, a.chunk.Count, a.chunk.Data)
		if err != nil {
			return errors.Join(fmt.Errorf("record to logs.db: %w", err), tx.Rollback())
		}
	}
	return tx.Commit()
}

// Grown wakes those who wait for more of a log.
func (l *Logs) Grown(of LogOf) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if ch, ok := l.waiting[of]; ok {
		close(ch)
		delete(l.waiting, of)
	}
}

// mostFollowed bounds the memory for followers: beyond it all are woken once.
const mostFollowed = 10_000

// Grows is closed when the log next grows.
func (l *Logs) Grows(of LogOf) <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.waiting) > mostFollowed { // most of them are of readers that are gone
		for _, ch := range l.waiting {
			close(ch)
		}
		clear(l.waiting)
	}
	ch, ok := l.waiting[of]
	if !ok {
		ch = make(chan struct{})
		l.waiting[of] = ch
	}
	return ch
}

// Count is the number of lines that a log has.
func (l *Logs) Count(ctx context.Context, of LogOf) (int, error) {
	return one[int](ctx, l.read, `SELECT coalesce(max(first_line + lines), 0) FROM chunks
		WHERE run = ? AND task = ? AND attempt = ?`, of.Run, of.Task, of.Attempt)
}

// Lines reads lines of a log from the one with the number from (counted from
// 0), at least one if there is one and about limit at most.
func (l *Logs) Lines(ctx context.Context, of LogOf, from, limit int) ([]Line, error) {
	rows, err := l.read.QueryxContext(ctx, `SELECT first_line, lines, data FROM chunks
		WHERE run = ?1 AND task = ?2 AND attempt = ?3 AND first_line >= (
			SELECT coalesce(max(first_line), 0) FROM chunks WHERE run = ?1 AND task = ?2 AND attempt = ?3 AND first_line <= ?4)
		ORDER BY first_line`, of.Run, of.Task, of.Attempt, from)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Line
	for rows.Next() && len(out) < limit {
		var first, count int
		var data []byte
		if err := rows.Scan(&first, &count, &data); err != nil {
			return nil, err
		}
		if data, err = l.unpack.DecodeAll(data, nil); err != nil {
			return nil, fmt.Errorf("%w: %w", errDamaged, err)
		}
		lines, err := unpackLines(data, count)
		if err != nil {
			return nil, err
		}
		if skip := from - first; skip > 0 {
			lines = lines[min(skip, len(lines)):]
		}
		out = append(out, lines[:min(len(lines), limit-len(out))]...)
	}
	return out, rows.Err()
}

// Oldest is the chunk that was recorded before all others, nil when there is none.
func (l *Logs) Oldest(ctx context.Context) (*Packed, error) {
	row := l.read.QueryRowxContext(ctx, `SELECT run, task, attempt, first_line, lines, data FROM chunks ORDER BY rowid LIMIT 1`)
	var p Packed
	err := row.Scan(&p.Of.Run, &p.Of.Task, &p.Of.Attempt, &p.First, &p.Count, &p.Data)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &p, err
}

// Drop removes a chunk.
func (l *Logs) Drop(ctx context.Context, p Packed) error {
	_, err := l.write.ExecContext(ctx, `DELETE FROM chunks WHERE run = ? AND task = ? AND attempt = ? AND first_line = ?`, p.Of.Run, p.Of.Task, p.Of.Attempt, p.First)
	return err
}
