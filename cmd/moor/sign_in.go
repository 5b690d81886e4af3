package main

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
)

// stored is what sign-in keeps, readable by its owner alone.
type stored struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	CA    string `json:"ca,omitempty"`
}

func storedPath() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "moor", "sign-in.json"), err
}

func load() (s stored, err error) {
	path, err := storedPath()
	if err == nil {
		text, readErr := os.ReadFile(path)
		if readErr == nil {
			err = json.Unmarshal(text, &s)
		} else if !errors.Is(readErr, os.ErrNotExist) {
			err = readErr
		}
	}
	for name, value := range map[string]*string{"MOOR_URL": &s.URL, "MOOR_TOKEN": &s.Token, "MOOR_CA": &s.CA} {
		if v := os.Getenv(name); v != "" {
			*value = v
		}
	}
	return s, err
}

// dial makes a client from what sign-in or the environment says.
func dial() (*client.Client, error) {
	s, err := load()
	if err != nil {
		return nil, fmt.Errorf("reading what sign-in stored: %w", err)
	}
	if s.URL == "" || s.Token == "" {
		return nil, errors.New("you are not signed in: run moor sign-in, or set MOOR_URL and MOOR_TOKEN")
	}
	return client.New(client.Options{URL: s.URL, Token: s.Token, CA: s.CA})
}

// tokenDays is how long a token of sign-in holds.
const tokenDays = 30

func signInCommand() *cli.Command {
	return &cli.Command{
		Name:      "sign-in",
		Usage:     "sign in to a service; asks for e-mail and password and keeps an API token of its own for 30 days",
		ArgsUsage: "[URL]",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "email", Usage: "who you are; asked for when left out"},
			&cli.StringFlag{Name: "ca", Usage: "`FILE` with the certificate authority of a service that is its own"},
			&cli.BoolFlag{Name: "with-token", Usage: "read an API token from standard input instead"},
		},
		Action: signIn,
	}
}

func signIn(ctx context.Context, c *cli.Command) error {
	s, err := load()
	if err != nil {
		return err
	}
	if c.Args().Present() {
		s.URL = c.Args().First()
	}
	if ca := c.String("ca"); ca != "" {
		if s.CA, err = filepath.Abs(ca); err != nil {
			return err
		}
	}
	if s.URL == "" {
		return errors.New("which service? moor sign-in https://moorwatch.example")
	}
	in := bufio.NewReader(os.Stdin)
	if c.Bool("with-token") {
		line, err := in.ReadString('\n')
		if err != nil && line == "" {
			return fmt.Errorf("reading the token: %w", err)
		}
		s.Token = strings.TrimSpace(line)
	} else if s.Token, err = ownToken(ctx, s, c.String("email"), in); err != nil {
		return err
	}
	k, err := client.New(client.Options{URL: s.URL, Token: s.Token, CA: s.CA})
	if err != nil {
		return err
	}
	me, err := client.Result(k.GetMeWithResponse(ctx))
	if err != nil {
		return err
	}
	path, err := storedPath()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, text, 0o600)); err != nil {
		return fmt.Errorf("keeping the token: %w", err)
	}
	fmt.Printf("Signed in to %s as %s (%s).\n", s.URL, me.Email, roleWords(me.Grants))
	return nil
}

// askSecret asks for a password, which a terminal does not show.
func askSecret(in *bufio.Reader) (string, error) {
	fmt.Fprint(os.Stderr, "Password: ")
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		b, err := term.ReadPassword(fd)
		fmt.Fprintln(os.Stderr)
		return string(b), err
	}
	line, err := in.ReadString('\n')
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return strings.TrimRight(line, "\r\n"), err
}

// ownToken signs in with a password and makes the token with which this computer works.
func ownToken(ctx context.Context, s stored, email string, in *bufio.Reader) (string, error) {
	host, _ := os.Hostname()
	t, err := tokenByPassword(ctx, s, email, in, api.NewToken{Name: "moor on " + host, Days: tokenDays})
	if err != nil {
		return "", err
	}
	return t.Secret, nil
}

// tokenByPassword signs in with a password, makes a token, and signs out: a token makes no other.
func tokenByPassword(ctx context.Context, s stored, email string, in *bufio.Reader, wanted api.NewToken) (made *api.AddedToken, err error) {
	if email == "" {
		fmt.Fprint(os.Stderr, "E-mail: ")
		if email, err = in.ReadString('\n'); err != nil {
			return nil, err
		}
		email = strings.TrimSpace(email)
	}
	password, err := askSecret(in)
	if err != nil {
		return nil, err
	}
	k, err := client.New(client.Options{URL: s.URL, CA: s.CA})
	if err != nil {
		return nil, err
	}
	defer k.Close()
	second := func([]api.SecondStepFactors) (api.SecondFactor, error) {
		fmt.Fprint(os.Stderr, "Code of your authenticator, or a recovery code: ")
		line, err := in.ReadString('\n')
		if line = strings.TrimSpace(line); line == "" {
			return api.SecondFactor{}, fmt.Errorf("no second factor was given: %w", cmp.Or(err, errors.New("the line is empty")))
		}
		if len(strings.ReplaceAll(line, " ", "")) <= 6 {
			return api.SecondFactor{Code: &line}, nil
		}
		return api.SecondFactor{Recovery: &line}, nil
	}
	if _, err := k.SignIn(ctx, email, password, second); err != nil {
		return nil, err
	}
	if made, err = client.Made(k.AddTokenWithResponse(ctx, wanted)); err != nil {
		return nil, err
	}
	return made, client.Done(k.SignOutWithResponse(ctx)) // the session; the token stays
}

func signOutCommand() *cli.Command {
	return &cli.Command{Name: "sign-out", Usage: "forget what sign-in stored on this computer",
		Action: func(context.Context, *cli.Command) error {
			path, err := storedPath()
			if err != nil {
				return err
			}
			if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			fmt.Println("Signed out. The token holds until it expires; moor token revoke ends it at once.")
			return nil
		}}
}
