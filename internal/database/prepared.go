package database

import (
	"context"

	"gorm.io/gorm"
)

// Statements longer than mostReused bytes, as of many rows at once, are prepared when they are needed; so are more than mostKept.
const (
	mostReused = 2000
	mostKept   = 200
)

// Reuse has the statements that were prepared within transactions of a writer prepared once more, outside of any, from where later transactions take them:
// GORM prepares a statement anew, twice, in each transaction otherwise. No transaction of the caller may be open.
func Reuse(ctx context.Context, db *gorm.DB) {
	pool, ok := db.ConnPool.(*gorm.PreparedStmtDB)
	if !ok {
		return
	}
	keys := pool.Stmts.Keys()
	if len(keys) > mostKept {
		return
	}
	for _, key := range keys {
		if kept, ok := pool.Stmts.Get(key); !ok || !kept.Transaction || len(key) > mostReused {
			continue
		}
		pool.Mux.Lock() // which New gives back
		if _, err := pool.Stmts.New(ctx, key, false, pool.ConnPool, pool.Mux); err != nil {
			break // it is prepared when it is needed
		}
	}
}
