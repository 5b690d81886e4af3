// Package database gives the tests of one package a PostgreSQL server with the service's schema, without the service.
package database

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/service/db"
	"moorwatch.example/service/db/cluster"
)

var (
	start   sync.Once
	dir     string
	server  *cluster.Cluster
	problem error
	made    atomic.Int64
)

// Main runs a package's tests and stops the server that they started, if any. It is called by TestMain, and returns
// what os.Exit is given.
func Main(m *testing.M) int {
	defer func() {
		if server != nil {
			server.Stop()
		}
		if dir != "" {
			os.RemoveAll(dir)
		}
	}()
	return m.Run()
}

// New is a database of its own with the schema, until the test ends. It skips the test where only quick ones are run.
func New(t *testing.T) *pgxpool.Pool {
	t.Helper()
	if testing.Short() {
		t.Skip("it needs a database")
	}
	start.Do(func() {
		if dir, problem = os.MkdirTemp("", "moorwatch-database-"); problem != nil {
			return
		}
		if problem = os.Chmod(dir, 0o755); problem == nil { // the server's own account reaches into it
			server, problem = cluster.Start(context.Background(), cluster.Options{Dir: filepath.Join(dir, "postgres"), Throwaway: true})
		}
	})
	if problem != nil {
		t.Fatal("starting the tests' database: ", problem)
	}
	one, err := cluster.Start(t.Context(), cluster.Options{Dir: filepath.Join(dir, "postgres"), Database: fmt.Sprint("test_", made.Add(1))})
	if err == nil {
		err = db.Prepare(t.Context(), one.URL, one.Owner)
	}
	if err != nil {
		t.Fatal(err)
	}
	pool, err := db.Open(t.Context(), one.URL, 4)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pool.Close)
	owners.Store(pool, one.Owner)
	return pool
}

// owners are the addresses of databases for the role that their schema belongs to, by their pools.
var owners sync.Map

// Owner is the address of a database of New, for the role that its schema belongs to.
func Owner(t *testing.T, pool *pgxpool.Pool) string {
	t.Helper()
	owner, ok := owners.Load(pool)
	if !ok {
		t.Fatal("this database is not one of New")
	}
	return owner.(string)
}

// Devices adds devices at the site Quay of Wader, and returns them with the site.
func Devices(t *testing.T, pool *pgxpool.Pool, names ...string) (devices []uuid.UUID, site uuid.UUID) {
	t.Helper()
	var organisation uuid.UUID
	err := pool.QueryRow(t.Context(), "INSERT INTO organisations (name) VALUES ('Wader') RETURNING id").Scan(&organisation)
	if err == nil {
		err = pool.QueryRow(t.Context(), "INSERT INTO sites (organisation_id, name) VALUES ($1, 'Quay') RETURNING id",
			organisation).Scan(&site)
	}
	for _, name := range names {
		id := uuid.New()
		if err == nil {
			_, err = pool.Exec(t.Context(), "INSERT INTO devices (id, site_id, name, public_key, enrolled_at, presence_since) "+
				"VALUES ($1, $2, $3, $4, now(), now())", id, site, name, append(id[:], make([]byte, 16)...))
		}
		devices = append(devices, id)
	}
	if err != nil {
		t.Fatal(err)
	}
	return devices, site
}
