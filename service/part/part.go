// Package part is what a service is made of and what it hands out, so that all are joined in the same way.
package part

import (
	"context"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"moorwatch.example/service/bus"
	"moorwatch.example/service/front"
)

// Base is what every service is made of.
type Base struct {
	Pool  *pgxpool.Pool
	Audit front.Recorder
	Bus   *bus.Bus
}

// Part is what a service hands out. Whatever it has none of is left out.
type Part struct {
	Name string // of the service, for logs
	// Links answers what devices call over their links, by patterns of http.ServeMux.
	Links map[string]http.HandlerFunc
	// Begin reads what the service keeps in memory. It ends before anybody is served, and its error keeps the service
	// from starting.
	Begin func(context.Context) error
	// Refresh reads again what another node may have changed. It is called every minute.
	Refresh func(context.Context) error
	// Run is work that goes on until its context ends, each in a goroutine of its own.
	Run []func(context.Context)
	// Periodic is work that one node at a time does.
	Periodic []Periodic
	// Expire deletes what is kept no longer. It is called every hour, on one node at a time.
	Expire func(context.Context) error
	// Reseal seals anew what was sealed under an older key, and returns how much that was.
	Reseal func(context.Context) (int, error)
	// Close ends what others may still need while they end. It is called last.
	Close func()
}

// Periodic is work that is done at a start, and again and again. It may take 10 minutes.
type Periodic struct {
	Name  string // unique among all
	Every time.Duration
	Do    func(context.Context) error
}
