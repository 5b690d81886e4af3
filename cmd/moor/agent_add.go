package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"moorwatch.example/client"
	"moorwatch.example/contract/api"
	"moorwatch.example/core/release"
)

func addAgent(ctx context.Context, c *cli.Command) error {
	system := map[string]string{"linux": "linux", "macos": "darwin", "windows": "windows"}[c.String("system")]
	if system == "" {
		return fmt.Errorf("there is no agent for %q: write linux, macos or windows", c.String("system"))
	}
	if p := c.String("proxy"); p != "" && !release.ProxyAddress(p) {
		return fmt.Errorf("%q is no address of a proxy: write it as http://proxy:3128", p)
	}
	k, err := dial()
	if err != nil {
		return err
	}
	s, err := load()
	if err != nil {
		return err
	}
	all, err := client.Result(k.ListAgentReleasesWithResponse(ctx))
	if err != nil {
		return err
	}
	if c.String("file") == "" && len(all.Items) == 0 {
		return errors.New("the service has no release of the agent: make one with make release, or write an enrolment file with --file")
	}
	i := slices.IndexFunc(all.Commands, func(o api.AgentCommand) bool { return o.OS == system })
	if i < 0 && c.String("file") == "" && c.String("installer") == "" {
		return fmt.Errorf("release %s has no agent for %s", all.Items[0].Version, c.String("system"))
	}
	uses, hours := c.Int("uses"), c.Int("hours")
	made, err := client.Made(k.AddEnrolmentTokenWithResponse(ctx,
		api.NewEnrolmentToken{Organisation: c.String("organisation"), Site: c.String("site"), Uses: &uses, Hours: &hours,
			Approval: approvalFlag(c)}))
	if err != nil {
		return err
	}
	var options strings.Builder
	for _, w := range c.StringSlice("without") {
		options.WriteString(" --without " + w)
	}
	if p := c.String("proxy"); p != "" {
		options.WriteString(" --proxy " + p)
	}
	text, err := json.MarshalIndent(release.Enrolment{Service: s.URL, Token: made.Secret, Proxy: c.String("proxy"),
		Without: c.StringSlice("without")}, "", "\t")
	if err != nil {
		return err
	}
	if file := c.String("installer"); file != "" {
		return writeInstaller(ctx, k, all, file, append(text, '\n'))
	}
	if file := c.String("file"); file != "" {
		f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		if _, err := f.Write(append(text, '\n')); err != nil {
			return errors.Join(err, f.Close())
		}
		fmt.Printf("%s holds the token. On the device: moor-agent install --from %s%s\n", file, file, options.String())
		return f.Close()
	}
	fmt.Println(release.Fill(all.Commands[i].Command, s.URL, made.Secret, options.String()))
	return nil
}

// windowsProgram is the latest agent for Windows.
func windowsProgram(all *api.AgentReleases) (api.AgentFile, error) {
	i := -1
	if len(all.Items) > 0 {
		i = slices.IndexFunc(all.Items[0].Files, func(f api.AgentFile) bool {
			return f.Kind == "program" && f.OS == "windows" &&
				f.Arch == "amd64"
		})
	}
	if i < 0 {
		return api.AgentFile{}, errors.New("the service has no release with an agent for windows")
	}
	return all.Items[0].Files[i], nil
}

// writeInstaller writes the agent for Windows with an enrolment file behind its end.
func writeInstaller(ctx context.Context, k *client.Client, all *api.AgentReleases, file string, enrolment []byte) error {
	program, err := windowsProgram(all)
	if err != nil {
		return err
	}
	behind, err := release.Carry(enrolment)
	if err != nil {
		return err
	}
	in, err := k.InstallFile(ctx, program.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o700)
	if err != nil {
		return err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(out, sum), in)
	if err == nil && hex.EncodeToString(sum.Sum(nil)) != program.Sha256 {
		err = errors.New("the program is not what the service says that it is")
	}
	if err == nil {
		_, err = out.Write(behind)
	}
	if err = errors.Join(err, out.Close()); err != nil {
		os.Remove(file)
		return err
	}
	fmt.Printf("%s holds the token and installs the agent without a question: run it as administrator on the device.\n", file)
	return nil
}
