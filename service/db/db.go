// Package db opens the database that the columns keep their records in: the pool, the migrations
// and the classes of error that a caller can act on. What is asked of it belongs in a column's
// store.go; package cluster below it runs a private server for the demo and the tests.
package db

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Open connects to PostgreSQL, waiting up to 30 s for it to answer. The address is a libpq connection string or a
// URL. Where the schema is not that of this program it fails with ErrSchema: Prepare brings it up to date.
func Open(ctx context.Context, address string, connections int32) (*pgxpool.Pool, error) {
	pool, err := connect(ctx, address, connections)
	if err != nil {
		return nil, err
	}
	if err := upToDate(ctx, pool); err != nil {
		pool.Close()
		return nil, err
	}
	return pool, nil
}

// ErrSchema says that the database's schema is older than this program.
var ErrSchema = errors.New("the database's schema is not that of this program: run moorwatch migrate")

// Prepare brings the schema up to date. It belongs to the role of owner, whose address is needed for nothing else;
// the service's own role, that of address, reads and writes, and cannot change or remove what stands in the audit
// log. An empty owner is the service's role: then only a trigger guards the log, which that role could take away.
func Prepare(ctx context.Context, address, owner string) error {
	config, err := parse(address)
	if err != nil {
		return err
	}
	if owner == "" {
		owner = address
	}
	prepare, err := connect(ctx, owner, 2)
	if err != nil {
		return err
	}
	defer prepare.Close()
	err = migrate(ctx, prepare)
	if err == nil && owner != address {
		err = permit(ctx, prepare, config.ConnConfig.User)
	}
	if err != nil {
		return fmt.Errorf("bringing the database's schema up to date: %w", err)
	}
	return nil
}

func parse(address string) (*pgxpool.Config, error) {
	config, err := pgxpool.ParseConfig(address)
	if err != nil {
		// pgx's error may quote the address, and with it a password.
		return nil, errors.New("the database's address cannot be read: write it as postgres://user@host:port/name")
	}
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	return config, nil
}

func connect(ctx context.Context, address string, connections int32) (*pgxpool.Pool, error) {
	config, err := parse(address)
	if err != nil {
		return nil, err
	}
	config.MaxConns = connections
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	if err := await(ctx, pool); err != nil {
		pool.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	return pool, nil
}

// permitLock serialises the nodes of the service that grant at the same time.
const permitLock = 0x6d6f6f73

// permit gives the service's role what it needs: to read and write, but of the audit log only to
// read and append.
func permit(ctx context.Context, pool *pgxpool.Pool, user string) error {
	role := pgx.Identifier{user}.Sanitize()
	return pgx.BeginFunc(ctx, pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", permitLock); err != nil {
			return err
		}
		for _, grant := range []string{
			"GRANT USAGE ON SCHEMA public TO " + role,
			"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO " + role,
			"GRANT SELECT, UPDATE, USAGE ON ALL SEQUENCES IN SCHEMA public TO " + role,
			"REVOKE UPDATE, DELETE, TRUNCATE ON audit FROM " + role,
		} {
			if _, err := tx.Exec(ctx, grant); err != nil {
				return err
			}
		}
		return nil
	})
}

func await(ctx context.Context, pool *pgxpool.Pool) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		err := pool.Ping(ctx)
		if err == nil || !Unavailable(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// latest is the number of the last migration of this program.
func latest() (number int64, err error) {
	files, err := fs.ReadDir(migrations, "migrations")
	if err != nil || len(files) == 0 {
		return 0, errors.Join(err, errors.New("this program has no migrations"))
	}
	_, err = fmt.Sscanf(files[len(files)-1].Name(), "%d_", &number)
	return number, err
}

// upToDate fails where the schema is not that of this program. It only reads.
func upToDate(ctx context.Context, pool *pgxpool.Pool) error {
	want, err := latest()
	if err != nil {
		return err
	}
	var there int64
	err = pool.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied").Scan(&there)
	var answer *pgconn.PgError
	if errors.As(err, &answer) && answer.Code == "42P01" || err == nil && there < want { // there is no such table
		return ErrSchema
	}
	return err
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	conn := stdlib.OpenDBFromPool(pool)
	defer conn.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, conn, files)
	if err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return err
	}
	jobs, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return err
	}
	_, err = jobs.Migrate(ctx, rivermigrate.DirectionUp, nil)
	return err
}

// Unavailable tells whether err means that the database cannot be reached or is shutting down, so
// that the same request may succeed later.
func Unavailable(err error) bool {
	var answer *pgconn.PgError
	if errors.As(err, &answer) {
		switch answer.Code[:2] {
		case "08", "57", "53", "40": // connection, operator intervention, resources, serialisation
			return answer.Code != "57014" // a cancelled query is the caller's doing
		}
		return false
	}
	var connect *pgconn.ConnectError
	var network *net.OpError
	return errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err) || pgconn.Timeout(err) ||
		(err != nil && errors.Is(err, net.ErrClosed))
}

// Duplicate tells whether err is a violation of uniqueness.
func Duplicate(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && answer.Code == "23505"
}

// Dangling tells whether err means that a row referred to one that is not there.
func Dangling(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && answer.Code == "23503"
}

// Missing tells whether err means that there was no such row.
func Missing(err error) bool { return errors.Is(err, pgx.ErrNoRows) }

// LikeText makes a text stand for itself in a LIKE pattern.
func LikeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s)
}
