package db

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// rewriteRows is how many rows are read at once to be rewritten.
const rewriteRows = 500

// Rewrite puts other bytes in the place of those of many rows, such as secrets under another key. read selects id and
// bytes of the rows whose id, as text, is above $1, in its order, $2 at most; write sets those of $1 to $2. A row for
// which change says that nothing changes is left alone; one that fails is passed over, and told in the end.
func Rewrite(ctx context.Context, pool *pgxpool.Pool, read, write string,
	change func(id string, old []byte) (fresh []byte, changed bool, err error)) (n int, err error) {
	type row struct {
		id  string
		old []byte
	}
	var bad error
	for last := ""; ; {
		rows, err := pool.Query(ctx, read, last, rewriteRows)
		if err != nil {
			return n, err
		}
		all, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (x row, err error) { return x, r.Scan(&x.id, &x.old) })
		if err != nil {
			return n, err
		}
		for _, x := range all {
			last = x.id
			fresh, changed, err := change(x.id, x.old)
			if err != nil {
				bad = err
				continue
			}
			if !changed {
				continue
			}
			if _, err := pool.Exec(ctx, write, x.id, fresh); err != nil {
				return n, err
			}
			n++
		}
		if len(all) < rewriteRows {
			return n, errors.Join(bad)
		}
	}
}
