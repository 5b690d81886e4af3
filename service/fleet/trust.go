package fleet

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/google/uuid"

	"moorwatch.example/contract/api"
	"moorwatch.example/core/health"
	"moorwatch.example/core/selector"
	"moorwatch.example/service/db"
	"moorwatch.example/service/front"
)

// A device says of itself what it is called, which system it runs and more. One that lies must not come to what
// is meant for others: a group holds devices of one organisation, unless it was made for all on purpose, and
// neither roles nor secrets follow from what devices say.

// groupOf is the organisation that a group is to belong to; nil for one that is global.
func (f *Service) groupOf(ctx context.Context, id *uuid.UUID, in api.NewGroup) (*uuid.UUID, error) {
	global := in.Global != nil && *in.Global
	switch {
	case global && in.Organisation != nil:
		return nil, front.Problem(http.StatusBadRequest, "The group cannot be of one organisation and global.", "Choose one of the two.")
	case global:
		return nil, nil
	case in.Organisation != nil:
		return in.Organisation, f.KnownScope(ctx, health.Scope{Kind: health.Organisation, ID: in.Organisation.String()})
	case id != nil:
		was, err := f.store.groupOrganisation(ctx, *id)
		return was, err
	}
	only, err := f.store.onlyOrganisation(ctx)
	if err == nil && only == nil {
		err = front.Problem(http.StatusBadRequest, "The group needs an organisation.",
			"Say whose devices it holds, or make it global on purpose.")
	}
	return only, err
}

// mayRest refuses an expression that rests on devices' own word for a group at which somebody holds a role.
func (f *Service) mayRest(ctx context.Context, group uuid.UUID, expression string) error {
	reported, err := reportedIn(expression)
	if err != nil || len(reported) == 0 {
		return err
	}
	holder, err := f.bus.RoleHolder.Ask(ctx, health.Scope{Kind: health.Group, ID: group.String()})
	if holder == "" || err != nil {
		return err
	}
	return front.Problem(http.StatusConflict, "A role is held at this group.",
		fmt.Sprintf("%s holds one, and the expression rests on what devices say of themselves: %s. Use id, organisation, site and tags, "+
			"or name the devices.", holder, strings.Join(reported, ", ")))
}

func reportedIn(expression string) ([]string, error) {
	if expression == "" {
		return nil, nil
	}
	return selector.Reported(expression)
}

// Trusted refuses a target that rests on what devices say of themselves, for what, such as "a secret".
func (f *Service) Trusted(ctx context.Context, what string, where *string, group *uuid.UUID) error {
	refuse := func(reported []string) error {
		return front.Problem(http.StatusUnprocessableEntity, "This cannot rest on what devices say of themselves.",
			fmt.Sprintf("%s would follow from %s, about which a device can lie. Use id, organisation, site and tags, or name the devices.",
				what, strings.Join(reported, ", ")))
	}
	if where != nil {
		if reported, err := reportedIn(*where); err == nil && len(reported) > 0 { // one that cannot be read is refused elsewhere
			return refuse(reported)
		}
	}
	if group == nil {
		return nil
	}
	expression, err := f.store.groupExpression(ctx, *group)
	if db.Missing(err) {
		return front.NotFound("group")
	}
	if err != nil {
		return err
	}
	if reported, err := reportedIn(expression); err != nil || len(reported) > 0 {
		return refuse(reported)
	}
	return nil
}

// TrustedScope is Trusted for a scope at which something is held.
func (f *Service) TrustedScope(ctx context.Context, what string, s health.Scope) error {
	if s.Kind != health.Group {
		return nil
	}
	id, err := uuid.Parse(s.ID)
	if err != nil {
		return front.NotFound("group")
	}
	return f.Trusted(ctx, what, nil, &id)
}
