package serving

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path"
	"strconv"
	"strings"

	"moorwatch.example/agent/reporting"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/release"
)

// serveQuestion answers one question of a sweep: POST /questions.
func (v *Server) serveQuestion(w http.ResponseWriter, r *http.Request) {
	var q link.Question
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<10)).Decode(&q); err != nil {
		http.Error(w, "the question cannot be read", http.StatusBadRequest)
		return
	}
	answer, err := v.ask(r.Context(), q)
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	answer.Lines = answer.Lines[:min(len(answer.Lines), link.MaxAnswerLines)]
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(answer)
}

func (v *Server) ask(ctx context.Context, q link.Question) (link.Answer, error) {
	switch q.Kind {
	case link.AskLogOn:
		return v.askLogOn(ctx)
	case link.AskFact:
		return v.askFact(ctx, q.Name)
	case link.AskItem:
		return v.askItem(q)
	}
	if q.Name == "" {
		return link.Answer{}, errors.New("the question names nothing")
	}
	return v.config.Host.Asker.Ask(ctx, q)
}

func (v *Server) askLogOn(ctx context.Context) (link.Answer, error) {
	if v.config.Host.Meter == nil {
		return link.Answer{}, errors.New("it cannot tell who is signed in")
	}
	now, err := reporting.Read(ctx, v.config.Host.Meter.Another())
	if err != nil {
		return link.Answer{}, err
	}
	answer := link.Answer{Value: "nobody"}
	for _, p := range now.People {
		answer.Lines = append(answer.Lines, fmt.Sprintf("%s at %s, idle %d s", p.Name, p.Where, max(p.IdleSeconds, 0)))
	}
	if len(now.People) > 0 {
		answer.Value = fmt.Sprintf("%d signed in", len(now.People))
	}
	if l := now.LogOn; l != nil {
		answer.Number = &l.Seconds
		answer.Value = fmt.Sprintf("%.0f s", l.Seconds)
		answer.Lines = append(answer.Lines, fmt.Sprintf("last log-on of %s took %.0f s", l.Person, l.Seconds))
	}
	return answer, nil
}

// askFact answers with a field of the device's facts, by its name in the contract.
func (v *Server) askFact(ctx context.Context, name string) (link.Answer, error) {
	f, err := v.config.Host.Informer.Facts(ctx)
	if err != nil {
		return link.Answer{}, err
	}
	f.AgentVersion, f.Capabilities = release.Version, v.config.Host.Capabilities()
	text, err := json.Marshal(f)
	if err != nil {
		return link.Answer{}, err
	}
	var fields map[string]any
	if err := json.Unmarshal(text, &fields); err != nil {
		return link.Answer{}, err
	}
	switch v := fields[name].(type) {
	case nil:
		return link.Answer{}, fmt.Errorf("it has no fact %q", name)
	case float64:
		return link.Answer{Value: strconv.FormatFloat(v, 'g', 12, 64), Number: &v}, nil
	case []any:
		var all []string
		for _, one := range v {
			all = append(all, fmt.Sprint(one))
		}
		return link.Answer{Value: strings.Join(all, ", ")}, nil
	default:
		return link.Answer{Value: fmt.Sprint(v)}, nil
	}
}

// askItem answers from the inventory as it was last taken.
func (v *Server) askItem(q link.Question) (link.Answer, error) {
	kept := v.config.Report.Inventory()
	if kept == nil {
		return link.Answer{}, errors.New("its inventory was not taken yet")
	}
	answer := link.Answer{Value: "absent"}
	for _, i := range kept.Items() {
		if (q.Section != "" && i.Section != q.Section) || !matches(q.Name, i.Name) {
			continue
		}
		line := i.Name
		if version := i.Fields["version"]; version != "" {
			line += " " + version
			answer.Value = version
		} else if answer.Value == "absent" {
			answer.Value = "present"
		}
		answer.Lines = append(answer.Lines, line)
	}
	return answer, nil
}

// matches tells whether a name is meant by a pattern in which * stands for any characters; case
// does not count.
func matches(pattern, name string) bool {
	flat := func(s string) string { return strings.ToLower(strings.ReplaceAll(s, "/", "∕")) } // path.Match stops at slashes
	ok, err := path.Match(flat(pattern), flat(name))
	return err == nil && ok
}
