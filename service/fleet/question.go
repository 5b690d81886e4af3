package fleet

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/contract/link"
	"moorwatch.example/core/access"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// busyStore is told to a device when the database does not answer.
func busyStore(err error) error {
	return errors.Join(&link.Refusal{Status: http.StatusServiceUnavailable, Reason: "the service's database does not answer"}, err)
}

// anewWithin is how long the token holds with which a copy is enrolled anew.
const anewWithin = 10 * time.Minute

// Admit implements hub.Registry. A computer that shows the key of a device, and is another than that, is kept out
// until a technician has said which it is.
func (f *Service) Admit(ctx context.Context, id uuid.UUID, address string, p link.Proof) (mark string, err error) {
	k, err := f.store.known(ctx, id)
	if err != nil {
		return "", busyStore(err)
	}
	if k.successor != nil {
		return "", &link.Refusal{Status: http.StatusMisdirectedRequest, Reason: "this device goes on as another, whose hardware it has",
			Device: k.successor.String()}
	}
	hardware, hostName := device.CleanHardware(p.Hardware), device.CleanName(p.HostName)
	if k.waiting {
		if _, err := f.store.ask(ctx, enrolled, id, nil, hostName, hostOf(address), k.hardware); err != nil {
			return "", busyStore(err)
		}
		return "", &link.Refusal{Status: http.StatusTooEarly, Reason: "this device is new: a technician is asked whether to let it in"}
	}
	switch likeness := device.Compare(k.hardware, hardware); {
	case likeness == device.Different:
		return "", f.strange(ctx, id, k, address, hostName, hardware)
	case device.Telling(k.hardware) && (likeness == device.Unclear || !device.Telling(hardware)):
		// It tells less than it did, perhaps of adapters alone, whose numbers any neighbour in the network knows. A copy would
		// do so, in order not to be told from the device.
		return "", f.strange(ctx, id, k, address, hostName, markedBy(p.Mark))
	case (likeness == device.Same || len(k.hardware) == 0) && len(hardware) > 0 && !slices.Equal(k.hardware, hardware):
		if err := f.store.setHardware(ctx, id, hardware); err != nil {
			return "", busyStore(err)
		}
	}
	if device.Telling(hardware) {
		return "", nil
	}
	mark = rand.Text()
	next, ok := k.marks.Next(hashOf(p.Mark), hashOf(mark))
	if !ok {
		return "", f.strange(ctx, id, k, address, hostName, markedBy(p.Mark))
	}
	if err := f.store.setMarks(ctx, id, k.marks, next); err != nil {
		return "", busyStore(err) // another connects at the same time: one of the two comes again
	}
	return mark, nil
}

// hashOf is a mark as it is kept; "" for none.
func hashOf(mark string) string {
	if mark == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(mark))
	return hex.EncodeToString(sum[:16])
}

// markPrefix stands before a mark where it takes the place of hardware: of a computer that tells nothing else.
const markPrefix = "mark:"

func markedBy(mark string) []string { return []string{markPrefix + hashOf(mark)} }

// markOf is the mark that takes the place of hardware.
func markOf(hardware []string) (mark string, ok bool) {
	if len(hardware) != 1 {
		return "", false
	}
	return strings.CutPrefix(hardware[0], markPrefix)
}

// hostOf is an address without its port.
func hostOf(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}

// strange asks about a computer that shows another's key, and does as was answered.
func (f *Service) strange(ctx context.Context, id uuid.UUID, k known, address, hostName string, hardware []string) error {
	address = hostOf(address)
	a, err := f.store.ask(ctx, copied, id, nil, hostName, address, hardware)
	if db.Missing(err) {
		return &link.Refusal{Status: http.StatusTooEarly,
			Reason: "too many computers showed this identity: a technician is asked about those that came first"}
	}
	if err != nil {
		return busyStore(err)
	}
	entry := front.Entry{Actor: hostName, Via: "agent", Address: address, Device: id, DeviceName: k.name}
	if a.same != nil && !*a.same {
		secret, err := access.NewSecret(rand.Reader, access.EnrolmentToken, f.hint)
		if err != nil {
			return err
		}
		given, err := f.store.enrolAnew(ctx, a.id, access.HashSecret(secret), k.site, time.Now().Add(anewWithin), k.name)
		if err != nil {
			return busyStore(err)
		}
		if !given {
			f.judgeAgain(ctx, id)
			return &link.Refusal{Status: http.StatusTooEarly,
				Reason: "this computer was enrolled anew already: a technician is asked whether it is once more"}
		}
		entry.Action, entry.Result, entry.Detail = "device.enrol-anew", "told", "a copy becomes a device of its own"
		if err := f.audit.Record(ctx, entry); err != nil {
			return busyStore(err)
		}
		return &link.Refusal{Status: http.StatusMisdirectedRequest, Reason: "this computer is a copy: it is enrolled anew", Anew: secret}
	}
	if a.fresh {
		entry.Action, entry.Result = "device.connect", "refused: another computer shows this identity, and somebody is asked"
		if err := f.audit.Record(ctx, entry); err != nil {
			slog.Error("a question about an identity is not on record", "device", id, "error", err)
		}
		f.judgeAgain(ctx, id)
	}
	return &link.Refusal{Status: http.StatusTooEarly,
		Reason: "this identity was made on another computer: a technician is asked whether it is the same device"}
}

// recognise asks about a new device that has the hardware of an older one.
func (f *Service) recognise(ctx context.Context, id uuid.UUID, name, address string, told []string) error {
	hardware := device.CleanHardware(told)
	if len(hardware) == 0 {
		return nil
	}
	if err := f.store.setHardware(ctx, id, hardware); err != nil {
		return err
	}
	older, err := f.store.older(ctx, id, hardware)
	if err != nil || older == uuid.Nil {
		return err
	}
	_, err = f.store.ask(ctx, returned, id, &older, name, address, hardware)
	return err
}

// ListIdentityQuestions lists what is asked: GET /identity-questions.
func (f *Service) ListIdentityQuestions(c *gin.Context, in api.ListIdentityQuestionsParams) {
	view, err := f.View(c.Request.Context(), front.CallerOf(c), access.FleetRead)
	if err != nil {
		front.Fail(c, err)
		return
	}
	front.List(c, in.Cursor, in.Limit, askedPlace{},
		func(ctx context.Context, after askedPlace, limit int) ([]api.IdentityQuestion, error) {
			return f.store.questions(ctx, view, (*string)(in.Kind), after, limit)
		}, func(q api.IdentityQuestion) askedPlace { return askedPlace{q.AskedAt, q.ID} },
		func(found []api.IdentityQuestion, next *string) any {
			return api.IdentityQuestionPage{Items: found, Next: next}
		})
}

// answer keeps what somebody says to a question, and puts it on record.
func (f *Service) answer(c *gin.Context, id uuid.UUID, in api.IdentityAnswer) (q api.IdentityQuestion, err error) {
	ctx, caller := c.Request.Context(), front.CallerOf(c)
	if q, err = f.store.question(ctx, id); err != nil {
		return q, err
	}
	if q.ID != in.Question {
		return q, front.Problem(http.StatusConflict, "Something else is asked of this device by now.", "Look again.")
	}
	if in.Same && q.Older != nil {
		if err := f.MayAt(ctx, caller, access.FleetManage, health.Scope{Kind: health.Device, ID: q.Older.String()}); err != nil {
			return q, err
		}
	}
	if err := f.store.answer(ctx, q, in.Same, caller.Email); err != nil {
		return q, err
	}
	entry := front.EntryOf(c, "device.identity", map[bool]string{true: "the same device", false: "another device"}[in.Same])
	if q.Kind == enrolled {
		entry = front.EntryOf(c, "device.admit", map[bool]string{true: "let in", false: "refused"}[in.Same])
	}
	entry.Device, entry.DeviceName = id, q.Name
	entry.Detail = map[string]string{copied: "shown by " + q.HostName + " at " + q.Address,
		returned: "on the hardware of " + q.OlderName, enrolled: q.HostName + " at " + q.Address}[string(q.Kind)]
	return q, f.audit.Record(ctx, entry)
}

// AnswerIdentityQuestion says whether a computer is the device that it seems to be: PUT /devices/{id}/identity.
func (f *Service) AnswerIdentityQuestion(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.IdentityAnswer](c)
	if !ok {
		return
	}
	ctx := c.Request.Context()
	q, err := f.answer(c, id, in)
	if db.Missing(err) {
		err = front.NotFound("question about this device")
	}
	if err != nil {
		front.Fail(c, err)
		return
	}
	if q.Kind == enrolled && in.Same {
		if err := f.recognise(ctx, id, q.Name, q.Address, q.Hardware); err != nil {
			slog.Error("whether a new device was here before is not known", "device", id, "error", err)
		}
		f.bus.DeviceEnrolled.Publish(ctx, id)
	}
	changed := []uuid.UUID{id}
	if in.Same {
		f.bus.IdentityRevoked.Publish(ctx, id) // who is connected is not the one that is meant
		if q.Older != nil {
			changed = append(changed, *q.Older)
		}
	}
	f.Changed(changed)
	f.judgeAgain(ctx, changed...)
	c.Status(http.StatusNoContent)
}
