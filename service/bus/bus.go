// Package bus is how services hear of each other: what happened, what is about to happen within a transaction, and
// questions that any of them may answer. Who publishes does not know who listens. Each service subscribes when it is
// made; what is published reaches the subscribers of this process alone.
package bus

import (
	"context"
	"sync"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"moorwatch.example/core/access"
	"moorwatch.example/core/health"
)

// Bus has a topic for each thing that services tell each other.
type Bus struct {
	// DevicesChanged tells of devices of which something is known that was not: they are to be judged anew.
	DevicesChanged Topic[[]uuid.UUID]
	// DeviceEnrolled tells of a device that is new, or enrolled once more.
	DeviceEnrolled Topic[uuid.UUID]
	// DeviceMoved tells of a device that stands at another site, before the move is answered.
	DeviceMoved Topic[uuid.UUID]
	// IdentityRevoked tells of a device whose present link may not go on: it is retired, erased, or another computer.
	IdentityRevoked Topic[uuid.UUID]
	// InventoryChanged tells of a device that consists of something else than before.
	InventoryChanged Topic[uuid.UUID]
	// AlertOpened tells of a check that began to fail at a device.
	AlertOpened Topic[AlertOpened]
	// RunEnded tells of a run that a policy began.
	RunEnded Topic[RunEnded]
	// RightsChanged tells that what somebody may do has changed, before the change is answered.
	RightsChanged Topic[RightsChanged]

	// DeviceRetiring and DeviceMoving are told in the transaction that does it: who keeps something of the device
	// changes it there.
	DeviceRetiring Hook[DeviceRetiring]
	DeviceMoving   Hook[DeviceMoving]

	// ScopeUser asks what is set for a scope, such as a group, and names one of several; "" where nothing is.
	ScopeUser Question[health.Scope, string]
	// PersonMay asks whether somebody may do something at a place; false where they may not, or are not there.
	PersonMay Question[PersonMay, bool]
	// RoleHolder asks who holds a role at a scope, and names one of several; "" where nobody does.
	RoleHolder Question[health.Scope, string]
}

// AlertOpened is a check that began to fail.
type AlertOpened struct {
	Device uuid.UUID
	Check  string
}

// RunEnded is how a run ended.
type RunEnded struct {
	Job, Device uuid.UUID
	Succeeded   bool
	Reason      string
}

// RightsChanged is whose rights changed.
type RightsChanged struct {
	Person  uuid.UUID // whose they are; zero where it may concern anybody
	Revoked bool      // whatever was issued to the person holds no longer, whatever they may do
}

// PersonMay is what somebody may do or not.
type PersonMay struct {
	Person             uuid.UUID
	Permission         access.Permission
	Site, Organisation string // ids of the place
}

// DeviceRetiring is a device that is being retired.
type DeviceRetiring struct {
	Tx     pgx.Tx
	Device uuid.UUID
}

// DeviceMoving is a device that is being moved to a site.
type DeviceMoving struct {
	Tx           pgx.Tx
	Device, Site uuid.UUID
}

// list is what subscribers have in common. Its zero value has none.
type list[F any] struct {
	mu  sync.RWMutex
	all []F
}

func (l *list[F]) add(f F) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, f)
}

func (l *list[F]) subscribers() []F {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.all // add never changes what is there
}

// Topic is something that happens. Its zero value has no subscribers.
type Topic[E any] struct {
	told list[func(context.Context, E)]
}

// Subscribe has a function told of each event from now on, after those that subscribed before. It is called by who
// publishes, so it must not wait for long: what takes time it hands on.
func (t *Topic[E]) Subscribe(told func(context.Context, E)) { t.told.add(told) }

// Publish tells all subscribers, and returns once each has returned.
func (t *Topic[E]) Publish(ctx context.Context, event E) {
	for _, told := range t.told.subscribers() {
		told(ctx, event)
	}
}

// Hook is something that is being done, to which others add their part. Its zero value has no subscribers.
type Hook[E any] struct {
	parts list[func(context.Context, E) error]
}

// Subscribe has a function add its part from now on, after those that subscribed before.
func (h *Hook[E]) Subscribe(part func(context.Context, E) error) { h.parts.add(part) }

// Do has all subscribers add their part. The first error ends it and is returned: what is being done is not to be done.
func (h *Hook[E]) Do(ctx context.Context, event E) error {
	for _, part := range h.parts.subscribers() {
		if err := part(ctx, event); err != nil {
			return err
		}
	}
	return nil
}

// Question is what any of several may know. Its zero value has no subscribers.
type Question[Q any, A comparable] struct {
	answers list[func(context.Context, Q) (A, error)]
}

// Subscribe has a function answer from now on, where those that subscribed before do not. The zero value says that it
// does not know.
func (q *Question[Q, A]) Subscribe(answer func(context.Context, Q) (A, error)) { q.answers.add(answer) }

// Ask returns the first answer that is not the zero value, or the first error.
func (q *Question[Q, A]) Ask(ctx context.Context, question Q) (A, error) {
	var none A
	for _, answer := range q.answers.subscribers() {
		if a, err := answer(ctx, question); a != none || err != nil {
			return a, err
		}
	}
	return none, nil
}
