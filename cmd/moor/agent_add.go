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

// enrolmentFile is what a device enrols with that is given a file.
type enrolmentFile struct {
	Service string   `json:"service"`
	Token   string   `json:"token"`
	Proxy   string   `json:"proxy,omitempty"`
	Without []string `json:"without,omitempty"`
}

func addAgent(ctx context.Context, c *cli.Command) error {
	system := map[string]string{"linux": "linux", "macos": "darwin", "windows": "windows"}[c.String("system")]
	if system == "" {
		return fmt.Errorf("there is no agent for %q: write linux, macos or windows", c.String("system"))
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
	if c.String("file") == "" && (len(all.Items) == 0 || all.Script == nil) {
		return errors.New("the service has no release of the agent: make one with make release, or write an enrolment file with --file")
	}
	uses, hours := c.Int("uses"), c.Int("hours")
	made, err := client.Made(k.AddEnrolmentTokenWithResponse(ctx, api.NewEnrolmentToken{Organisation: c.String("organisation"), Site: c.String("site"), Uses: &uses, Hours: &hours}))
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
	text, err := json.MarshalIndent(enrolmentFile{s.URL, made.Secret, c.String("proxy"), c.StringSlice("without")}, "", "\t")
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
	unknown := ""
	if all.OwnAuthority {
		unknown = "k"
	}
	if system != "windows" {
		check := map[string]string{"linux": "sha256sum -c -", "darwin": "shasum -a 256 -c -"}[system]
		fmt.Printf("curl -fsS%s -o moor-agent.sh %s%s && echo '%s  moor-agent.sh' | %s && echo '%s' | sudo sh moor-agent.sh%s\n", unknown, s.URL, all.Script.Path, all.Script.Sha256, check, made.Secret, options.String())
		return nil
	}
	f, err := windowsProgram(all)
	if err != nil {
		return err
	}
	fmt.Printf(`curl.exe -fsS%so "%%TEMP%%\moor-agent.exe" %s%s & certutil -hashfile "%%TEMP%%\moor-agent.exe" SHA256 > "%%TEMP%%\moor-agent.sum" & findstr %s "%%TEMP%%\moor-agent.sum" & if errorlevel 1 (echo It is not the program that the service tells of: nothing is installed.) else (echo %s| "%%TEMP%%\moor-agent.exe" install --service %s --token-file -%s)`+"\n",
		unknown, s.URL, f.Path, f.Sha256, made.Secret, s.URL, options.String())
	return nil
}

// windowsProgram is the latest agent for Windows.
func windowsProgram(all *api.AgentReleases) (api.AgentFile, error) {
	i := -1
	if len(all.Items) > 0 {
		i = slices.IndexFunc(all.Items[0].Files, func(f api.AgentFile) bool { return f.Kind == "program" && f.OS == "windows" && f.Arch == "amd64" })
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
