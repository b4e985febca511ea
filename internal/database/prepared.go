package database

import (
	"context"
	"database/sql"
	"sync"

	"gorm.io/gorm"
)

// writer is a pool of the one connection that writes. GORM prepares a statement of a transaction for that transaction alone, so that each is parsed again every
// time: a third of the work of a small edit. Here statements that come again are prepared once, on the connection itself, and used by all transactions.
type writer struct {
	*sql.DB

	mu       sync.Mutex
	prepared map[string]*sql.Stmt
	met      map[string]int // how often a statement was met that is not prepared
	pending  []string       // those that came again
}

// Bounds of what is prepared: those that come again and again are short and few.
const (
	longestPrepared = 2000 // bytes
	mostPrepared    = 100
)

// prepareWrites has the transactions of a database with one connection use statements that are prepared once.
func prepareWrites(db *gorm.DB, pool *sql.DB) {
	db.ConnPool = &writer{DB: pool, prepared: map[string]*sql.Stmt{}, met: map[string]int{}}
	db.Statement.ConnPool = db.ConnPool
}

// GetDBConn is the pool itself, as GORM asks for it.
func (w *writer) GetDBConn() (*sql.DB, error) { return w.DB, nil }

// BeginTx begins a transaction. What came again is prepared before: whoever begins waits for the connection anyway, and holds nothing of the database yet.
func (w *writer) BeginTx(ctx context.Context, options *sql.TxOptions) (gorm.ConnPool, error) {
	w.mu.Lock()
	pending := w.pending
	w.pending = nil
	w.mu.Unlock()
	for _, query := range pending {
		if statement, err := w.DB.PrepareContext(ctx, query); err == nil { // else it goes on as it came
			w.mu.Lock()
			w.prepared[query] = statement
			w.mu.Unlock()
		}
	}
	tx, err := w.DB.BeginTx(ctx, options)
	if err != nil {
		return nil, err
	}
	return &writing{tx, w}, nil
}

// of is a statement as it is prepared; nil where it is not, or not yet.
func (w *writer) of(query string) *sql.Stmt {
	w.mu.Lock()
	defer w.mu.Unlock()
	if statement := w.prepared[query]; statement != nil || len(query) > longestPrepared || len(w.met) >= mostPrepared && w.met[query] == 0 {
		return statement
	}
	if w.met[query]++; w.met[query] == 2 {
		w.pending = append(w.pending, query)
	}
	return nil
}

// writing is a transaction of the connection that writes.
type writing struct {
	*sql.Tx
	by *writer
}

// ExecContext runs a statement that gives no rows. Those that give rows are never shared: two may be read at once.
func (t *writing) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if statement := t.by.of(query); statement != nil {
		return t.Tx.StmtContext(ctx, statement).ExecContext(ctx, args...)
	}
	return t.Tx.ExecContext(ctx, query, args...)
}
