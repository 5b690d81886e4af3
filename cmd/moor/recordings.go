package main

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/recording"
)

func recordingsCommand() *cli.Command {
	return &cli.Command{Name: "recordings", Aliases: []string{"recording"},
		Usage: "look for, read, replay, verify and export what shells printed and screens showed", Commands: []*cli.Command{{
			Name: "list", Usage: "list what shells printed, the latest first", ArgsUsage: "[NAME]", ShellComplete: completeDevices,
			Flags: listFlags(&cli.StringFlag{Name: "text", Usage: "only those in which this `TEXT` was printed"}),
			Action: func(ctx context.Context, c *cli.Command) error {
				k, err := dial()
				if err != nil {
					return err
				}
				in := api.ListRecordingsParams{}
				if c.Args().Present() {
					d, err := k.Find(ctx, c.Args().First())
					if err != nil {
						return err
					}
					in.Device = &d.ID
				}
				if text := c.String("text"); text != "" {
					in.Text = &text
				}
				rows := client.Pages(func(cursor *string) (*api.RecordingPage, error) {
					in.Cursor = cursor
					return client.Result(k.ListRecordingsWithResponse(ctx, &in))
				})
				return list(c, rows, 0, []string{"ID", "BEGAN", "OF", "DEVICE", "WHO", "LASTED", "BYTES", "LINE"},
					func(r api.Recording) []string {
						line := ""
						if r.Excerpt != nil {
							line = *r.Excerpt
						}
						return []string{r.ID.String(), minute(r.BeganAt), r.Kind, r.Device, r.Actor,
							lasted(time.Duration(r.Seconds * float64(time.Second))),
							fmt.Sprint(r.Bytes), line}
					})
			},
		}, {
			Name: "play", Usage: "print a recording at the pace at which it was printed", ArgsUsage: "ID",
			Flags: []cli.Flag{&cli.FloatFlag{Name: "speed", Value: 1, Usage: "how many times as fast"},
				&cli.DurationFlag{Name: "pause", Value: 2 * time.Second, Usage: "the longest pause that is waited for"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.Float("speed") <= 0 {
					return errors.New("--speed is more than 0")
				}
				last := 0.0
				return replay(ctx, c, func(e recording.Event) error {
					wait := min(time.Duration((e.Seconds-last)/c.Float("speed")*float64(time.Second)), c.Duration("pause"))
					last = e.Seconds
					select {
					case <-time.After(wait):
					case <-ctx.Done():
						return ctx.Err()
					}
					_, err := os.Stdout.Write(e.Output)
					return err
				})
			},
		}, {
			Name: "text", Usage: "print the words of a recording, without colours and cursor movements", ArgsUsage: "ID",
			Action: func(ctx context.Context, c *cli.Command) error {
				var printed []byte
				return errors.Join(replay(ctx, c, func(e recording.Event) error { printed = append(printed, e.Output...); return nil }),
					func() error {
						_, err := fmt.Print(recording.Words(printed))
						return err
					}())
			},
		}, {
			Name: "verify", Usage: "see whether a recording is as it was written", ArgsUsage: "ID",
			Flags: []cli.Flag{&cli.StringFlag{Name: "key",
				Usage: "the service's public `KEY`, in base64, where it was noted before; otherwise the service's word is taken for it"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, id, err := recordingOf(c)
				if err != nil {
					return err
				}
				key, err := base64.StdEncoding.DecodeString(c.String("key"))
				if err != nil {
					return errors.New("--key is base64, as moor recordings verify prints it")
				}
				v, err := k.Verify(ctx, id, key)
				if err != nil {
					return err
				}
				fmt.Printf("%d pieces are as they were written by the service of the key %s.\n", v.Pieces,
					base64.StdEncoding.EncodeToString(v.Key))
				if !v.Ended {
					return errors.New("the recording has no end: it goes on, or the service was killed, or its end was cut off")
				}
				fmt.Println("Nothing is missing at its end.")
				return nil
			},
		}, {
			Name: "export", Usage: "write the recording of a screen as a video (AVI with JPEG pictures)", ArgsUsage: "ID FILE",
			Flags: []cli.Flag{&cli.IntFlag{Name: "rate", Value: 10, Usage: "pictures a second, 1 to 60"},
				&cli.DurationFlag{Name: "pause", Usage: "the longest pause that is kept; all of them are where it is not given"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, id, err := recordingOf(c)
				if err != nil {
					return err
				}
				if c.Args().Get(1) == "" || c.Int("rate") < 1 || c.Int("rate") > 60 {
					return errors.New("give the file to write, and a --rate from 1 to 60")
				}
				f, err := os.OpenFile(c.Args().Get(1), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
				if err != nil {
					return err
				}
				film := recording.NewFilm(f, c.Int("rate"), c.Duration("pause"))
				err = k.Entries(ctx, id, film.Entry)
				if err == nil {
					err = film.Close()
				}
				if err = errors.Join(err, f.Close()); err != nil {
					os.Remove(f.Name())
					return err
				}
				fmt.Printf("%d pictures, %s, are in %s.\n", film.Pictures, lasted(film.Lasts()), f.Name())
				return nil
			},
		}}}
}

// recordingOf reads which recording is meant from the first argument.
func recordingOf(c *cli.Command) (*client.Client, uuid.UUID, error) {
	k, err := dial()
	if err != nil {
		return nil, uuid.Nil, err
	}
	id, err := uuid.Parse(c.Args().First())
	if err != nil {
		return nil, uuid.Nil, errors.New("which recording? give its id, as moor recordings list shows it")
	}
	return k, id, nil
}

// replay hands the events of a recording, the first argument, to each.
func replay(ctx context.Context, c *cli.Command, each func(recording.Event) error) error {
	k, id, err := recordingOf(c)
	if err != nil {
		return err
	}
	return k.Replay(ctx, id, func(e recording.Event) error {
		if e.Missing > 0 {
			fmt.Fprintf(os.Stderr, "\n[%d bytes are missing here]\n", e.Missing)
		}
		return each(e)
	})
}
