package store

import (
	"context"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
)

// The write-ahead log is moved into the database (a checkpoint, https://www.sqlite.org/wal.html) behind the writer.
// Left to itself SQLite does it within the commit that makes the log long, and who waits for that commit waits for all
// of it.

const (
	checkpointPages = 1000 // of the log that are not yet in the database
	checkpointMost  = 10 * checkpointPages
	checkpointLook  = 100 * time.Millisecond
)

// checkpoints is what the writer and the goroutine behind it tell each other.
type checkpoints struct {
	grown chan struct{} // something was committed
	rest  atomic.Bool   // nearly all is moved: the writer shall move what came meanwhile, after which the log begins anew
	end   chan struct{}
}

func (s *Store) checkpointer() {
	defer close(s.checkpoints.end)
	for {
		select {
		case <-s.quit:
			return
		case <-s.checkpoints.grown:
		}
		pages, err := checkpoint(s.read, "NOOP")
		if err == nil && pages >= checkpointPages {
			if _, err = checkpoint(s.read, "PASSIVE"); err == nil {
				s.checkpoints.rest.Store(true)
			}
		}
		if err != nil { // a commit does it then, as soon as it can be done
			s.log.Debug("the write-ahead log was not moved into the database", "error", err)
		}
		select {
		case <-s.quit:
			return
		case <-time.After(checkpointLook):
		}
	}
}

// grew is called by the writer between two commits.
func (s *Store) grew() {
	if s.checkpoints.rest.CompareAndSwap(true, false) {
		if _, err := checkpoint(s.tx.conn, "PASSIVE"); err != nil {
			s.log.Debug("the write-ahead log was not moved into the database", "error", err)
		}
	}
	select {
	case s.checkpoints.grown <- struct{}{}:
	default:
	}
}

// checkpoint returns how many pages of the log are not in the database.
func checkpoint(db sqlx.QueryerContext, mode string) (pages int, err error) {
	var busy, logged, moved int
	if err := db.QueryRowxContext(context.Background(), `PRAGMA wal_checkpoint(`+mode+`)`).Scan(&busy, &logged,
		&moved); err != nil {
		return 0, fmt.Errorf("store: checkpoint: %w", err)
	}
	return logged - moved, nil
}
