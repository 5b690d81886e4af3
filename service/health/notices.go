package health

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/mail"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/device"
	"moorwatch.example/core/health"
	"moorwatch.example/service/front"
)

// ListChannels lists channels by name: GET /channels.
func (h *Service) ListChannels(c *gin.Context, in api.ListChannelsParams) {
	front.List(c, in.Cursor, in.Limit, "", h.store.channels, func(x api.Channel) string { return x.Name },
		func(items []api.Channel, next *string) any { return api.ChannelPage{Items: items, Next: next} })
}

// AddChannel adds a channel: POST /channels.
func (h *Service) AddChannel(c *gin.Context) {
	front.Write(c, h.audit, http.StatusCreated, h.change("channel.add", "channel"), func(ctx context.Context, in api.NewChannel,
		change *front.Change) (x api.Channel, err error) {
		change.Detail = in.Name
		if x, err = h.readChannel(in); err != nil {
			return x, err
		}
		secret := make([]byte, 32)
		rand.Read(secret)
		x.ID = uuid.New()
		if x, err = h.store.addChannel(ctx, x, secret, front.CallerOf(c).Email); x.Kind == "webhook" {
			x.Secret = new(base64.StdEncoding.EncodeToString(secret))
		}
		return x, err
	})
}

// SetChannel changes a channel; its secret stays: PUT /channels/{id}.
func (h *Service) SetChannel(c *gin.Context, id api.ID) {
	front.Write(c, h.audit, http.StatusOK, h.change("channel.change", "channel"), func(ctx context.Context, in api.NewChannel,
		change *front.Change) (x api.Channel, err error) {
		change.Detail = in.Name
		if x, err = h.readChannel(in); err != nil {
			return x, err
		}
		x.ID = id
		return h.store.setChannel(ctx, x, front.CallerOf(c).Email)
	})
}

func (h *Service) readChannel(in api.NewChannel) (api.Channel, error) {
	x := api.Channel{Name: device.CleanName(in.Name), Kind: in.Kind, Target: strings.TrimSpace(in.Target)}
	if x.Kind == "webhook" {
		u, err := url.Parse(x.Target)
		if err != nil || u.Host == "" || (u.Scheme != "https" && (u.Scheme != "http" || len(h.post.Reach) == 0)) {
			return x, bad("The address cannot be read.", "Write it as https://host/path.")
		}
		return x, nil
	}
	list := addresses(x.Target)
	if len(list) == 0 {
		return x, bad("There is no e-mail address.", "Write one or more, with commas between them.")
	}
	for _, a := range list {
		if _, err := mail.ParseAddress(a); err != nil {
			return x, bad("The address "+device.CleanText(a)+" cannot be read.", "Write it as name@host.example.")
		}
	}
	return x, nil
}

// RemoveChannel removes a channel that no rule uses: DELETE /channels/{id}.
func (h *Service) RemoveChannel(c *gin.Context, id api.ID) {
	for _, x := range h.rules.all() {
		if x.channel == id || x.escalate == id {
			front.Fail(c, front.Problem(http.StatusConflict, "The channel is in use.", "The rule "+x.Name+" tells it: change that first."))
			return
		}
	}
	h.removed(c, "channel.remove", "channel", func(ctx context.Context) (string, error) { return h.store.remove(ctx, "channels", id) })
}

// TestChannel tells a channel something now: POST /channels/{id}/test.
func (h *Service) TestChannel(c *gin.Context, id api.ID) {
	front.Serve(c, func() error {
		ctx := c.Request.Context()
		x, err := h.store.channel(ctx, id)
		if err != nil {
			return missing(err, "channel")
		}
		now := time.Now()
		answer, err := h.send(ctx, delivery{id: uuid.New(), channel: x,
			events: []Told{{ID: uuid.New(), Kind: "test", At: now, Level: health.Notice, Site: "Moorwatch",
				Message: "This is a test of the channel " + x.name + ".", Since: now}}})
		out := api.ChannelTest{Sent: err == nil, Detail: answer}
		if err != nil {
			out.Detail = device.CleanText(err.Error())
		}
		entry := front.EntryOf(c, "channel.test", map[bool]string{true: "done", false: "failed"}[out.Sent])
		entry.Detail = x.name
		if err := h.audit.Record(ctx, entry); err != nil {
			return err
		}
		c.JSON(http.StatusOK, out)
		return nil
	})
}

// ListRules lists rules by name: GET /rules.
func (h *Service) ListRules(c *gin.Context, in api.ListRulesParams) {
	front.List(c, in.Cursor, in.Limit, "", h.store.rules, func(x api.Rule) string { return x.Rule.Name },
		func(items []api.Rule, next *string) any { return api.RulePage{Items: items, Next: next} })
}

// AddRule adds a rule: POST /rules.
func (h *Service) AddRule(c *gin.Context) { h.putRule(c, nil, http.StatusCreated, "rule.add") }

// SetRule changes a rule: PUT /rules/{id}.
func (h *Service) SetRule(c *gin.Context, id api.ID) { h.putRule(c, &id, http.StatusOK, "rule.change") }

func (h *Service) putRule(c *gin.Context, id *uuid.UUID, status int, action string) {
	front.Write(c, h.audit, status, h.change(action, "rule"), func(ctx context.Context, in api.NewRule, change *front.Change) (
		x api.Rule, err error) {
		in.Name = device.CleanName(in.Name)
		change.Detail = in.Name
		if err := in.Validate(); err != nil {
			return x, bad("The rule cannot be kept.", err.Error())
		}
		for _, channel := range []string{in.Channel, in.EscalateTo} {
			if channel == "" {
				continue
			}
			known, err := uuid.Parse(channel)
			if err == nil {
				_, err = h.store.channel(ctx, known)
			}
			if err != nil {
				return x, bad("There is no such channel.", "Use the id of one, as the list of channels shows it.")
			}
		}
		if err := h.fleet.KnownScope(ctx, in.Scope); err != nil {
			return x, err
		}
		text, err := json.Marshal(in)
		if err != nil {
			return x, err
		}
		return h.store.setRule(ctx, id, in.Name, text, front.CallerOf(c).Email)
	})
}

// RemoveRule removes a rule: DELETE /rules/{id}.
func (h *Service) RemoveRule(c *gin.Context, id api.ID) {
	h.removed(c, "rule.remove", "rule", func(ctx context.Context) (string, error) { return h.store.remove(ctx, "rules", id) })
}

// ListDeliveries lists what was told: GET /deliveries.
func (h *Service) ListDeliveries(c *gin.Context, in api.ListDeliveriesParams) {
	front.List(c, in.Cursor, in.Limit, latestMoment, h.store.deliveries, func(d api.Delivery) moment { return moment{d.CreatedAt, d.ID} },
		func(items []api.Delivery, next *string) any { return api.DeliveryPage{Items: items, Next: next} })
}
