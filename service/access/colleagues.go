package access

import (
	"context"
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
	"moorwatch.example/service/bus"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// ListColleagues lists who else may look at a device's screen: GET /devices/{id}/screen/colleagues.
func (a *Service) ListColleagues(c *gin.Context, _ api.ID, in api.ListColleaguesParams) {
	me, at := front.CallerOf(c).ID, front.PlaceOf(c)
	front.List(c, in.Cursor, in.Limit, place{}, a.store.people, func(p person) place { return place{p.Name, p.ID} },
		func(items []person, next *string) any {
			out := api.ColleaguePage{Items: []api.Colleague{}, Next: next}
			for _, p := range items {
				if p.ID != me && p.Rights.May(access.Of("screen", access.See), at) {
					out.Items = append(out.Items, api.Colleague{ID: p.ID, Name: p.Name,
						Act: p.Rights.May(access.Of("screen", access.Act), at), LastSeenAt: p.LastSeenAt})
				}
			}
			return out
		})
}

// InviteColleague asks a colleague to a screen: POST /devices/{id}/screen/invitations.
func (a *Service) InviteColleague(c *gin.Context, id api.ID) {
	in, ok := front.Bind[api.Invitation](c)
	if !ok {
		return
	}
	if err := a.invited(c, id, in); err != nil {
		front.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (a *Service) invited(c *gin.Context, id api.ID, in api.Invitation) error {
	ctx := c.Request.Context()
	p, err := a.store.personByID(ctx, in.Person)
	if db.Missing(err) || (err == nil && !p.Rights.May(access.Of("screen", access.See), front.PlaceOf(c))) {
		return front.NotFound("colleague who may look at this screen")
	}
	if err != nil {
		return err
	}
	d, err := a.scopes.Device(ctx, id)
	if err != nil {
		return err
	}
	out := api.Invited{To: p.ID, From: front.CallerOf(c).Name, Device: id, DeviceName: d.Name, Desktop: in.Desktop,
		HandOver: in.HandOver != nil && *in.HandOver}
	entry := front.EntryOf(c, "screen.invite", "done")
	entry.Device, entry.DeviceName, entry.Detail = id, d.Name, p.Email
	if out.HandOver {
		entry.Action = "screen.hand-over"
	}
	if err := a.log.Record(ctx, entry); err != nil {
		return err
	}
	a.scopes.Publish("invited", out)
	return nil
}

// RightsOf are what somebody may do now; none where they are no longer here.
func (a *Service) RightsOf(ctx context.Context, person uuid.UUID) (access.Rights, error) {
	p, err := a.store.personByID(ctx, person)
	if db.Missing(err) {
		return nil, nil
	}
	return p.Rights, err
}

// personMay tells whether somebody may do something at a place.
func (a *Service) personMay(ctx context.Context, asked bus.PersonMay) (bool, error) {
	rights, err := a.RightsOf(ctx, asked.Person)
	return rights.May(asked.Permission, &health.Place{Site: asked.Site, Organisation: asked.Organisation}), err
}
