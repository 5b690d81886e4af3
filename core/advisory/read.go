package advisory

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"moorwatch.example/core/device"
)

// Exploited is a weakness that is known to be used in attacks.
type Exploited struct {
	Name  string    `json:"name"` // of CVE
	Since time.Time `json:"since,omitzero"`
	Due   time.Time `json:"due,omitzero"` // by when those who keep the list want it mended
	Note  string    `json:"note,omitempty"`
}

// maxDocument is the longest document that is read, in bytes.
const maxDocument = 32 << 20

// Sink takes what a file holds.
type Sink struct {
	Advisory  func(Advisory) error
	Exploited func(Exploited) error
	// Refused is told of a document that cannot be used: the which-th of the file.
	Refused func(which int, why error)
}

// Read reads a file of advisories: documents of the OSV or CSAF formats, one, several after another (as JSON
// lines are) or an array of them; or a list of what is known to be exploited, as JSON (an object with a list
// of vulnerabilities that have a cveID, a dateAdded and a dueDate) or as CSV with a column cve. It is read
// piece by piece. It fails where the file is none of these or ends early, and where a sink fails.
func Read(r io.Reader, into Sink) error {
	in := bufio.NewReaderSize(r, 64<<10)
	first, err := firstByte(in)
	if err != nil {
		return err
	}
	if first != '{' && first != '[' {
		return readCSV(in, into)
	}
	capped := &capped{in, maxDocument}
	d := json.NewDecoder(capped)
	if first == '[' {
		if _, err := d.Token(); err != nil {
			return err
		}
	}
	for n := 1; ; n++ {
		capped.left = maxDocument
		if first == '[' && !d.More() {
			_, err := d.Token()
			if err != nil {
				return fmt.Errorf("the list ends early after %d documents: %w", n-1, err)
			}
			return nil
		}
		var text json.RawMessage
		err := d.Decode(&text)
		if err == io.EOF && first == '{' && n > 1 {
			return nil
		}
		if err != nil {
			return fmt.Errorf("document %d is no JSON: %w", n, err)
		}
		if err := readOne(n, text, into); err != nil {
			return err
		}
	}
}

func firstByte(in *bufio.Reader) (byte, error) {
	for {
		b, err := in.ReadByte()
		if err == io.EOF {
			return 0, errors.New("the file is empty")
		}
		if err != nil {
			return 0, err
		}
		switch b {
		case ' ', '\t', '\r', '\n', 0xef, 0xbb, 0xbf: // the last are a byte order mark
			continue
		}
		return b, in.UnreadByte()
	}
}

// capped ends a document that is longer than may be.
type capped struct {
	r    io.Reader
	left int
}

func (c *capped) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, fmt.Errorf("a document is longer than %d MiB", maxDocument>>20)
	}
	n, err := c.r.Read(p[:min(len(p), c.left)])
	c.left -= n
	return n, err
}

func readOne(n int, text []byte, into Sink) error {
	var is struct {
		ID       string          `json:"id"`
		Affected json.RawMessage `json:"affected"`
		Document json.RawMessage `json:"document"`
		List     json.RawMessage `json:"vulnerabilities"`
		Gone     string          `json:"withdrawn"`
	}
	if err := json.Unmarshal(text, &is); err != nil {
		into.Refused(n, fmt.Errorf("it is no document: %w", err))
		return nil
	}
	var a Advisory
	var err error
	switch {
	case is.Document != nil:
		a, err = readCSAF(text)
	case is.ID != "" && (is.Affected != nil || is.Gone != ""):
		a, err = readOSV(text)
	case is.List != nil:
		return readExploited(n, is.List, into)
	default:
		err = errors.New("it is neither an OSV nor a CSAF document, nor a list of what is exploited")
	}
	if err != nil {
		into.Refused(n, err)
		return nil
	}
	return into.Advisory(a)
}

func readExploited(n int, list []byte, into Sink) error {
	d := json.NewDecoder(bytes.NewReader(list))
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		into.Refused(n, errors.New("its vulnerabilities are no list"))
		return nil
	}
	for d.More() {
		var one struct {
			CVE   string `json:"cveID"`
			Short string `json:"cve"`
			Added string `json:"dateAdded"`
			Due   string `json:"dueDate"`
			Name  string `json:"vulnerabilityName"`
			Note  string `json:"shortDescription"`
		}
		if err := d.Decode(&one); err != nil {
			into.Refused(n, err)
			return nil
		}
		if err := exploited(n, one.CVE+one.Short, one.Added, one.Due, cmp.Or(one.Note, one.Name), into); err != nil {
			return err
		}
	}
	return nil
}

var cveName = regexp.MustCompile(`^[A-Z][A-Z0-9]+(-[A-Za-z0-9]+)+$`)

func exploited(n int, name, since, due, note string, into Sink) error {
	e := Exploited{Name: strings.TrimSpace(name), Note: device.CleanLong(note, maxSummary)}
	if !cveName.MatchString(e.Name) || len(e.Name) > maxID {
		into.Refused(n, fmt.Errorf("%q is no name of a weakness, such as CVE-2026-0001", device.CleanLong(name, maxID)))
		return nil
	}
	for text, to := range map[string]*time.Time{since: &e.Since, due: &e.Due} {
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		at, err := time.Parse(time.DateOnly, text[:min(len(text), len(time.DateOnly))])
		if err != nil {
			into.Refused(n, fmt.Errorf("%s: %q is no date, such as 2026-11-30", e.Name, device.CleanLong(text, maxID)))
			return nil
		}
		*to = at
	}
	return into.Exploited(e)
}

// readCSV reads a list of what is exploited, whose first line names the columns (RFC 4180).
func readCSV(r io.Reader, into Sink) error {
	in := csv.NewReader(r)
	in.FieldsPerRecord = -1
	head, err := in.Read()
	columns := map[string]int{}
	for i, name := range head {
		columns[strings.ToLower(strings.TrimSpace(name))] = i
	}
	at := func(row []string, names ...string) string {
		for _, name := range names {
			if i, ok := columns[name]; ok && i < len(row) {
				return row[i]
			}
		}
		return ""
	}
	if at(head, "cve", "cveid") == "" || err != nil {
		return errors.New("the file is neither JSON (OSV or CSAF documents, or a list of what is exploited) nor CSV with a column cve " +
			"in its first line")
	}
	for n := 1; ; n++ {
		row, err := in.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("line %d is no CSV: %w", n+1, err)
		}
		if err := exploited(n, at(row, "cve", "cveid"), at(row, "dateadded", "since"), at(row, "duedate", "due"),
			at(row, "shortdescription", "note"), into); err != nil {
			return err
		}
	}
}
