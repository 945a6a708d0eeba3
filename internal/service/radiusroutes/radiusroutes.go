// Package radiusroutes has the operations about what would be touched if a credential changed,
// and about uses that were seen or declared.
package radiusroutes

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/connect/directory/uses"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/radius"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/pictures"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

// Radius is the picture of what one credential touches.
type Radius struct {
	Graph    radius.Graph     `json:"graph"`
	Summary  radius.Summary   `json:"summary"`
	Coverage picture.Coverage `json:"coverage"`
	Words    string           `json:"words" doc:"How complete the picture is, in a sentence"`
}

// pictured is the part of it that stays the same until something is read.
type pictured struct {
	Graph   radius.Graph   `json:"graph"`
	Summary radius.Summary `json:"summary"`
}

// covered is the part that changes with time.
type covered struct {
	Coverage picture.Coverage `json:"coverage"`
	Words    string           `json:"words" doc:"How complete the picture is, in a sentence"`
}

type radiusInput struct {
	ID       int64    `path:"id" minimum:"1"`
	Evidence []string `query:"evidence,explode" enum:"configured,held,observed,declared" doc:"Only ties of these kinds: configured, held, observed, declared"`
	Mentions bool     `query:"mentions" doc:"Also files that only mention the account"`
	Hops     int      `query:"hops" minimum:"1" maximum:"10" default:"6" doc:"How far to go"`
	Limit    int      `query:"limit" minimum:"1" maximum:"20000" default:"10000" doc:"Nodes at most"`
}

type searchInput struct {
	Text  string `query:"q" required:"true" maxLength:"200" doc:"Words, or beginnings of words"`
	Limit int    `query:"limit" minimum:"1" maximum:"100" default:"20" doc:"Of each kind"`
}

type declareInput struct {
	ID   int64 `path:"id" minimum:"1"`
	Body struct {
		Place     string              `json:"place,omitempty" maxLength:"500" doc:"Where it is used, in words; not needed with a dependent"`
		System    string              `json:"system,omitempty" maxLength:"200" doc:"System that the place is on; that of the account when it is left out"`
		Dependent records.DependentID `json:"dependent,omitempty" doc:"A dependent that is known"`
		Reason    string              `json:"reason" minLength:"1" maxLength:"500"`
		Until     time.Time           `json:"until,omitzero" doc:"When to ask again"`
	}
}

type importUsesInput struct {
	Name string `path:"name"`
	Body struct {
		Lines []string `json:"lines" minItems:"1" maxItems:"20000" doc:"Lines of the directory's authentication audit, as JSON; others are passed over"`
	}
}

// TakenUses says what was understood of a log.
type TakenUses struct {
	Kinds int `json:"kinds" doc:"Different uses: account, client and way"`
	Uses  int `json:"uses"`
	Bad   int `json:"bad" doc:"Lines that look like records and are none"`
}

// Register registers them.
func Register(r *routing.Router, store *store.Store, application *assembly.Application) {
	s := &routes{store: store, app: application}
	routing.Add(r, http.MethodGet, "/accounts/{id}/radius", "get-radius", "Show what would be touched if this credential changed", s.radius)
	answers := r.API.OpenAPI().Paths["/api/v1/accounts/{id}/radius"].Get.Responses["200"]
	answers.Headers, answers.Content = nil, map[string]*huma.MediaType{"application/json": {Schema: r.API.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[Radius](), true, "Radius")}}
	routing.Add(r, http.MethodGet, "/accounts/{id}/uses", "list-uses", "List who was seen signed in with an account, and from where", func(ctx context.Context, in *routing.IDInput) (*routing.Body[[]records.SeenUse], error) {
		list, err := s.store.SeenUses(ctx, records.AccountID(in.ID))
		if list == nil {
			list = []records.SeenUse{}
		}
		return routing.Answer(list, err)
	})
	routing.Add(r, http.MethodGet, "/search", "search", "Find accounts, dependents and systems by words", func(ctx context.Context, in *searchInput) (*routing.Body[[]records.Hit], error) {
		return routing.Answer(s.store.Search(ctx, in.Text, in.Limit))
	})
	routing.Add(r, http.MethodGet, "/sockets", "list-sockets", "List connections and listening ports of hosts", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.SocketOf]], error) {
		return routing.Answer(s.store.Sockets(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/accounts/{id}/declarations", "list-declarations", "List what people say of an account's use", func(ctx context.Context, in *routing.IDInput) (*routing.Body[[]records.Declaration], error) {
		list, err := s.store.Declarations(ctx, records.AccountID(in.ID))
		if list == nil {
			list = []records.Declaration{}
		}
		return routing.Answer(list, err)
	})
	routing.Add(r, http.MethodPost, "/accounts/{id}/declarations", "declare-use", "Say that an account is used somewhere", s.declare)
	routing.Add(r, http.MethodDelete, "/declarations/{id}", "withdraw-use", "Withdraw what somebody said", func(ctx context.Context, in *routing.IDInput) (*routing.Empty, error) {
		return &routing.Empty{}, s.app.Picture.Withdraw(ctx, routing.Who(ctx), records.DeclarationID(in.ID))
	})
	routing.Add(r, http.MethodPost, "/systems/{name}/uses", "import-uses", "Take in what a directory recorded of uses, as lines of JSON", s.importUses)
}

type routes struct {
	store    *store.Store
	app      *assembly.Application
	pictures pictures.Pictures
}

// written is an answer that was written down before.
type written struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

// radius answers with what is kept of the picture, as it was written down:
// writing 10,000 nodes down again for everybody who looks takes longer than all
// the rest.
func (s *routes) radius(ctx context.Context, in *radiusInput) (*written, error) {
	picture, err := s.pictures.Of(fmt.Sprint(*in), s.store.Generation(), func() ([]byte, error) {
		keep := context.WithoutCancel(ctx) // others wait for it too
		a, err := s.store.Account(keep, records.AccountID(in.ID))
		if err != nil {
			return nil, err
		}
		graph, err := radius.Walk(store.AccountNode(a), in.Hops, in.Limit, s.store.RadiusSource(keep, in.Evidence, in.Mentions))
		if err != nil {
			return nil, err
		}
		return json.Marshal(pictured{graph, graph.Sum()})
	})
	if err != nil {
		return nil, err
	}
	coverage, err := s.app.Picture.Coverage(ctx)
	if err != nil {
		return nil, err
	}
	rest, err := json.Marshal(covered{coverage, coverage.Words()})
	if err != nil {
		return nil, err
	}
	// Both are objects: one of them goes on where the other ends.
	out := make([]byte, 0, len(picture)+len(rest))
	out = append(append(out, picture[:len(picture)-1]...), ',')
	return &written{ContentType: "application/json", Body: append(out, rest[1:]...)}, nil
}

func (s *routes) declare(ctx context.Context, in *declareInput) (*routing.Body[records.Declaration], error) {
	a, err := s.store.Account(ctx, records.AccountID(in.ID))
	if err != nil {
		return routing.Answer(records.Declaration{}, err)
	}
	id, err := s.app.Picture.Declare(ctx, routing.Who(ctx), a, picture.Declared{Place: in.Body.Place, System: in.Body.System, DependentID: in.Body.Dependent, Reason: in.Body.Reason, Until: in.Body.Until})
	if err != nil {
		return routing.Answer(records.Declaration{}, err)
	}
	all, err := s.store.Declarations(ctx, a.ID)
	for _, d := range all {
		if d.ID == id {
			return routing.Answer(d, err)
		}
	}
	return routing.Answer(records.Declaration{ID: records.DeclarationID(id)}, err)
}

func (s *routes) importUses(ctx context.Context, in *importUsesInput) (*routing.Body[TakenUses], error) {
	v, err := s.store.System(ctx, in.Name)
	if err != nil {
		return routing.Answer(TakenUses{}, err)
	}
	var list []estate.Use
	list, bad, err := uses.Parse(strings.NewReader(strings.Join(in.Body.Lines, "\n")))
	if err != nil {
		return routing.Answer(TakenUses{}, err)
	}
	out := TakenUses{Kinds: len(list), Bad: bad}
	for _, u := range list {
		out.Uses += u.Count
	}
	return routing.Answer(out, s.app.Picture.TakeUses(ctx, routing.Who(ctx), v, list))
}
