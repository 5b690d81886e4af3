// Command standin stands in for programs of Windows that Wine 8 lacks, or has without what they do: curl.exe,
// certutil.exe and findstr.exe, by the name that it is called by and as far as the command needs them that
// installs the agent.
package main

import (
	"bufio"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
)

func main() {
	name := strings.ToLower(os.Args[0][strings.LastIndexAny(os.Args[0], `\/`)+1:])
	run := map[string]func(args []string) error{"curl": curl, "certutil": certutil, "findstr": findstr}[strings.TrimSuffix(name, ".exe")]
	if run == nil {
		run = func([]string) error { return fmt.Errorf("%s stands in for nothing", name) }
	}
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// curl gets a file: curl -fsS[k]o FILE URL.
func curl(args []string) error {
	if len(args) != 3 || !strings.HasPrefix(args[0], "-fsS") || !strings.HasSuffix(args[0], "o") {
		return fmt.Errorf("curl %q is not known here", args)
	}
	c := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: strings.Contains(args[0], "k")}}}
	answer, err := c.Get(args[2])
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 400 {
		return fmt.Errorf("the server answers %s", answer.Status)
	}
	f, err := os.Create(args[1])
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, answer.Body); err != nil {
		return err
	}
	return f.Close()
}

// certutil tells a digest: certutil -hashfile FILE SHA256.
func certutil(args []string) error {
	if len(args) != 3 || args[0] != "-hashfile" || args[2] != "SHA256" {
		return fmt.Errorf("certutil %q is not known here", args)
	}
	f, err := os.Open(args[1])
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return err
	}
	fmt.Printf("SHA256 hash of %s:\r\n%x\r\nCertUtil: -hashfile command completed successfully.\r\n", args[1], sum.Sum(nil))
	return nil
}

// findstr prints the lines of a file that hold a text, and fails where none does: findstr TEXT FILE.
func findstr(args []string) error {
	if len(args) != 2 {
		return fmt.Errorf("findstr %q is not known here", args)
	}
	f, err := os.Open(args[1])
	if err != nil {
		return err
	}
	defer f.Close()
	found := false
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if strings.Contains(lines.Text(), args[0]) {
			fmt.Println(lines.Text())
			found = true
		}
	}
	if !found {
		return fmt.Errorf("no line holds %q", args[0])
	}
	return nil
}
