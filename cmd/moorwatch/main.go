// Command moorwatch is the service: the API, the console and the devices' links; and the demo,
// which runs it with a database and a sample fleet of its own.
package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"moorwatch.example/demo"
	"moorwatch.example/service"
	"moorwatch.example/service/access"
	"moorwatch.example/service/authority"
	"moorwatch.example/service/db"
	"moorwatch.example/service/post"
	"moorwatch.example/uplink"
	"moorwatch.example/web"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := command().Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "moorwatch:", err)
		os.Exit(1)
	}
}

func command() *cli.Command {
	var file string
	from := func(name, variable string) cli.ValueSourceChain {
		return cli.NewValueSourceChain(cli.EnvVar(variable), settingOf(&file, name))
	}
	return &cli.Command{
		Name:    "moorwatch",
		Usage:   "look after many computers from one service",
		Version: demo.Version,
		Commands: []*cli.Command{{
			Name:  "serve",
			Usage: "serve the API, the console and the devices' links, until stopped",
			Description: "Each option may stand on the command line, in the environment, or in the configuration file\nunder its name " +
				"without the dashes; the first of these that says something counts.",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "config", Usage: "configuration `FILE` in YAML, such as \"listen: 0.0.0.0:8443\"", Destination: &file,
					Sources: cli.EnvVars("MOORWATCH_CONFIG")},
				&cli.StringFlag{Name: "database", Usage: "address of PostgreSQL, as postgres://user@host:port/name; a password belongs " +
					"in the file or the environment", Sources: from("database", "MOORWATCH_DATABASE")},
				&cli.StringFlag{Name: "database-owner", Hidden: true, Sources: from("database-owner", "MOORWATCH_DATABASE_OWNER")},
				&cli.StringSliceFlag{Name: "audit-anchor", Usage: "where the head of the audit log is written as it grows, as " +
					"file:///path, or udp://host:port or tcp://host:port of a syslog server; repeat it for more",
					Sources: from("audit-anchor", "MOORWATCH_AUDIT_ANCHOR")},
				&cli.IntFlag{Name: "connections", Value: 16, Usage: "connections to the database, at most",
					Sources: from("connections", "MOORWATCH_CONNECTIONS")},
				&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8443", Usage: "`HOST:PORT` to listen on",
					Sources: from("listen", "MOORWATCH_LISTEN")},
				&cli.StringFlag{Name: "url", Usage: "address by which people and devices reach the service; made from --listen " +
					"when left out", Sources: from("url", "MOORWATCH_URL")},
				&cli.StringFlag{Name: "data", Value: "moorwatch-data",
					Usage:   "`FOLDER` for the service's own certificate authority and its set-up link",
					Sources: from("data", "MOORWATCH_DATA")},
				&cli.StringFlag{Name: "certificate", Usage: "TLS certificate chain, a PEM `FILE`; the service makes its own when left out",
					Sources: from("certificate", "MOORWATCH_CERTIFICATE")},
				&cli.StringFlag{Name: "key", Usage: "private key of the certificate, a PEM `FILE`", Sources: from("key", "MOORWATCH_KEY")},
				&cli.StringFlag{Name: "releases", Usage: "`FOLDER` of the agent's releases, as make release fills it; releases in the " +
					"folder of --data when left out", Sources: from("releases", "MOORWATCH_RELEASES")},
				&cli.StringFlag{Name: "advisories", Usage: "`FOLDER` that mirrors feeds of advisories (OSV, CSAF, lists of what is " +
					"exploited): each file or folder of it is a feed, imported as it changes",
					Sources: from("advisories", "MOORWATCH_ADVISORIES")},
				&cli.StringFlag{Name: "smtp", Usage: "mail server for notices, as smtp://host:port or smtps://host:port; a user and " +
					"password belong in the file or the environment", Sources: from("smtp", "MOORWATCH_SMTP")},
				&cli.StringFlag{Name: "mail-from", Usage: "`ADDRESS` that mail is sent from",
					Sources: from("mail-from", "MOORWATCH_MAIL_FROM")},
				&cli.IntFlag{Name: "keep-raw", Value: 14, Usage: "days for which readings are kept as they were read",
					Sources: from("keep-raw", "MOORWATCH_KEEP_RAW")},
				&cli.IntFlag{Name: "keep-minutes", Value: 90, Usage: "days for which readings are kept by five minutes",
					Sources: from("keep-minutes", "MOORWATCH_KEEP_MINUTES")},
				&cli.IntFlag{Name: "keep-hours", Value: 730, Usage: "days for which readings are kept by the hour",
					Sources: from("keep-hours", "MOORWATCH_KEEP_HOURS")},
				&cli.StringSliceFlag{Name: "trusted-proxy", Usage: "`NETWORK` of a proxy before the service, as 192.0.2.7/32: what it " +
					"says in X-Forwarded-For and X-Forwarded-Proto is believed; repeat it for more",
					Sources: from("trusted-proxy", "MOORWATCH_TRUSTED_PROXY")},
				&cli.StringSliceFlag{Name: "webhook-network",
					Usage: "`NETWORK` that webhooks may reach beside public addresses, as 192.0.2.0/24, by plain HTTP too; repeat " +
						"it for more", Sources: from("webhook-network", "MOORWATCH_WEBHOOK_NETWORK")},
				&cli.BoolFlag{Name: "plain", Usage: "plain HTTP, on loopback alone", Sources: from("plain", "MOORWATCH_PLAIN")},
				&cli.StringFlag{Name: "log", Value: "info", Usage: "least level that is logged: debug, info, warn or error",
					Sources: from("log", "MOORWATCH_LOG")},
			},
			Action: serve,
		}, keysCommand(&file), {
			Name:  "migrate",
			Usage: "bring the database's schema up to date, once before a version is served first",
			Description: "The schema belongs to the role of --database-owner, and the role of --database is given what the service " +
				"needs:\nto read and write, but of the audit log only to read and append. The service itself never learns of the owner.",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "config", Usage: "configuration `FILE` in YAML", Destination: &file,
					Sources: cli.EnvVars("MOORWATCH_CONFIG")},
				&cli.StringFlag{Name: "database", Usage: "address of PostgreSQL with the service's role, as the service has it",
					Sources: from("database", "MOORWATCH_DATABASE")},
				&cli.StringFlag{Name: "database-owner", Usage: "the same address with the role that owns the schema; without it the " +
					"service's role owns it, and could alter the audit log", Sources: cli.EnvVars("MOORWATCH_DATABASE_OWNER")},
			},
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.String("database") == "" {
					return errNoDatabase
				}
				if err := db.Prepare(ctx, c.String("database"), c.String("database-owner")); err != nil {
					return err
				}
				fmt.Println("The database is ready for this version.")
				return nil
			},
		}, {
			Name:  "demo",
			Usage: "run the service with a private database and a sample fleet, until stopped",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "dir", Value: "demo-data", Usage: "`FOLDER` of everything the demo keeps",
					Sources: cli.EnvVars("DEMO_DIR")},
				&cli.IntFlag{Name: "port", Value: demo.Port, Usage: "port on loopback", Sources: cli.EnvVars("DEMO_PORT")},
				&cli.BoolFlag{Name: "reset", Usage: "delete what the demo keeps, and end"},
			},
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.Bool("reset") {
					return demo.Reset(ctx, c.String("dir"))
				}
				slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn})))
				return demo.Run(ctx, demo.Options{Dir: c.String("dir"), Port: c.Int("port"), Console: web.Console()})
			},
		}},
	}
}

var errNoDatabase = errors.New("which database? give --database, MOORWATCH_DATABASE, or \"database:\" in the configuration file")

// networks reads a flag that names networks.
func networks(c *cli.Command, flag string) (all []netip.Prefix, err error) {
	for _, text := range c.StringSlice(flag) {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("--%s is %q: write a network, as 192.0.2.7/32", flag, text)
		}
		all = append(all, network)
	}
	return all, nil
}

func serve(ctx context.Context, c *cli.Command) error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.String("log"))); err != nil {
		return fmt.Errorf("--log is %q: write debug, info, warn or error", c.String("log"))
	}
	if os.Getenv("GOGC") == "" {
		// Most of the heap is what idle links hold and never changes: collecting twice as often
		// costs little, and a fleet needs a quarter less memory.
		debug.SetGCPercent(50)
	}
	slog.SetDefault(slog.New(slog.NewJSONHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
	if c.String("database") == "" {
		return errNoDatabase
	}
	if c.String("database-owner") != "" {
		return errors.New("the owner of the database's schema is for moorwatch migrate alone: take it out of what the service reads")
	}
	config := service.Config{Database: c.String("database"), Anchors: c.StringSlice("audit-anchor"),
		Connections: int32(c.Int("connections")), Listen: c.String("listen"), URL: c.String("url"), Console: web.Console(),
		Contents:   filepath.Join(c.String("data"), "contents"),
		Advisories: c.String("advisories"), Post: post.Post{SMTP: c.String("smtp"), From: c.String("mail-from")}}
	if config.Releases = c.String("releases"); config.Releases == "" {
		config.Releases = filepath.Join(c.String("data"), "releases")
	}
	for tier, name := range []string{"keep-raw", "keep-minutes", "keep-hours"} {
		days := c.Int(name)
		if days < 1 || days > 3660 || (tier > 0 && time.Duration(days)*24*time.Hour < config.Keep[tier-1]) {
			return fmt.Errorf("--%s is %d: write days from 1 to 3660, coarser readings for no less time than finer ones", name, days)
		}
		config.Keep[tier] = time.Duration(days) * 24 * time.Hour
	}
	for _, anchor := range config.Anchors {
		if err := access.CheckAnchor(anchor); err != nil {
			return err
		}
	}
	var err error
	if config.Proxies, err = networks(c, "trusted-proxy"); err != nil {
		return err
	}
	if config.Post.Reach, err = networks(c, "webhook-network"); err != nil {
		return err
	}
	if config.TLS, config.Fingerprint, err = certificate(c); err != nil {
		return err
	}
	if config.Seal, err = authority.Seal(c.String("data")); err != nil {
		return err
	}
	if config.Keys, err = authority.OpenKeys(c.String("data"), time.Now()); err != nil {
		return err
	}
	s, err := service.Start(ctx, config)
	if err != nil {
		return err
	}
	defer s.Stop()
	slog.Info("serving", "url", s.URL)
	if s.SetUpLink != "" {
		path := filepath.Join(c.String("data"), "set-up-link")
		if err := errors.Join(os.MkdirAll(c.String("data"), 0o700), os.WriteFile(path, []byte(s.SetUpLink+"\n"), 0o600)); err != nil {
			return fmt.Errorf("keeping the set-up link: %w", err)
		}
		fmt.Printf("Nobody can sign in yet. Open the one-time link in %s within three days.\n", path)
	}
	select {
	case <-ctx.Done():
		slog.Info("stopping")
		return nil
	case err := <-s.Failed():
		return err
	}
}

// certificate chooses how the service shows who it is.
func certificate(c *cli.Command) (config *tls.Config, fingerprint string, err error) {
	file, key := c.String("certificate"), c.String("key")
	switch {
	case c.Bool("plain"):
		return nil, "", nil
	case file != "" && key != "":
		pair, err := tls.LoadX509KeyPair(file, key)
		if err != nil {
			return nil, "", fmt.Errorf("reading the certificate: %w", err)
		}
		return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, "", nil
	case file != "" || key != "":
		return nil, "", errors.New("--certificate and --key go together")
	}
	names := []string{"localhost", "127.0.0.1", "::1"}
	if host, err := os.Hostname(); err == nil {
		names = append(names, host)
	}
	if host, _, err := net.SplitHostPort(c.String("listen")); err == nil && host != "" && host != "0.0.0.0" && host != "::" {
		names = append(names, host)
	}
	if address := c.String("url"); address != "" {
		u, err := uplink.ServiceURL(address)
		if err != nil {
			return nil, "", err
		}
		names = append(names, u.Hostname())
	}
	return authority.Load(c.String("data"), names, time.Now())
}
