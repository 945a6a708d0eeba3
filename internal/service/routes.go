package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/approval"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/batches"
	"mossledger.example/moss/internal/app/configuration"
	"mossledger.example/moss/internal/app/managing"
	"mossledger.example/moss/internal/app/messages"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/service/approvalroutes"
	"mossledger.example/moss/internal/service/batchroutes"
	"mossledger.example/moss/internal/service/configurationroutes"
	"mossledger.example/moss/internal/service/endroutes"
	"mossledger.example/moss/internal/service/managedroutes"
	"mossledger.example/moss/internal/service/messageroutes"
	"mossledger.example/moss/internal/service/policyroutes"
	"mossledger.example/moss/internal/service/radiusroutes"
	"mossledger.example/moss/internal/service/reports"
	"mossledger.example/moss/internal/service/rightroutes"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store/database"
)

// A new route: write a handler beside its kind, register it with add, and give
// its operation a line in the table of package access.

func (s *Service) registerAll() {
	if s.app == nil { // only described
		s.app = &assembly.Application{}
	}
	s.registerPeople()
	s.registerSystems()
	s.registerSurveys()
	s.registerAccounts()
	s.registerRules()
	policyroutes.Register(s.router(), policyroutes.Needs{Store: s.store, Policies: s.app.Policies, Tandems: s.app.Tandems, Freeze: s.app.Freeze, Now: func() time.Time { return s.app.Base.Now() }})
	batchroutes.Register(s.router(), s.store, func() *batches.Batches { return s.app.Batches })
	reports.Register(s.router(), reports.Needs{Store: s.store, Rotations: func() *rotate.Rotations { return s.app.Rotations }, Now: func() time.Time { return s.app.Base.Now() }})
	configurationroutes.Register(s.router(), func() *configuration.Configuration { return s.app.Texts })
	messageroutes.Register(s.router(), s.store, func() *messages.Messages { return s.app.Messages })
	rightroutes.Register(s.router(), s.store, s.app)
	endroutes.Register(s.router(), s.store, s.app, func() time.Time { return s.app.Base.Now() })
	radiusroutes.Register(s.router(), s.store, s.app)
	managedroutes.Register(s.router(), func() *managing.Managing { return s.app.Managing })
	s.registerRotations()
	s.registerCredentials()
	s.registerOptions()
	approvalroutes.Register(s.router(), s.store, func() *approval.Approvals { return s.app.Approvals })
	s.registerLedger()
}

// What operations are made of has a room of its own, for all packages that have some.
type (
	body[T any] = routing.Body[T]
	empty       = routing.Empty
	// ListInput is what every list takes.
	ListInput = routing.ListInput
	// IDInput names one item by number.
	IDInput = routing.IDInput
	// NameInput names one item by name or number.
	NameInput = routing.NameInput
)

func add[I, O any](s *Service, method, path, operation, summary string, handler func(context.Context, *I) (*O, error)) {
	routing.Add(s.router(), method, path, operation, summary, handler)
}

func (s *Service) router() *routing.Router { return &routing.Router{API: s.api, Problem: s.problem} }

func answer[T any](v T, err error) (*body[T], error) { return routing.Answer(v, err) }

func who(ctx context.Context) access.Actor { return routing.Who(ctx) }

// Keyed is a request that starts work: sent twice with one key, it is done once.
type Keyed struct {
	Key string `header:"Idempotency-Key" maxLength:"100"`
}

// once runs start unless the same person sent the same key before; then the
// answer is that of the first. What start begins takes the key with it in one
// transaction. An approval's answer is its number below zero.
func once[ID ~int64](ctx context.Context, s *Service, key, act string, asked any, start func(context.Context) (ID, error)) (ID, error) {
	if key == "" {
		return start(ctx)
	}
	raw, err := json.Marshal([]any{act, asked})
	if err != nil {
		return 0, err
	}
	digest := sha256.Sum256(raw)
	request := database.Request{User: who(ctx).Name, Key: key, Asked: hex.EncodeToString(digest[:])}
	if earlier, found, err := s.store.Earlier(ctx, request); err != nil || found {
		return ID(earlier), sameRequest(err)
	}
	id, err := start(database.WithRequest(ctx, request))
	// Its twin may have come first; it is no conflict of this one.
	if err != nil && !errors.Is(err, database.ErrOtherRequest) {
		earlier, found, other := s.store.Earlier(ctx, request)
		if found || errors.Is(other, database.ErrOtherRequest) {
			return ID(earlier), sameRequest(other)
		}
	}
	return id, err
}

func sameRequest(err error) error {
	if errors.Is(err, database.ErrOtherRequest) {
		return fmt.Errorf("%w: %w: send each new request with a new key", app.ErrInput, err)
	}
	return err
}
