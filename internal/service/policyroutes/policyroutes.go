// Package policyroutes has the operations about rotations that nobody watches: windows,
// policies, accounts that take turns, the order of restarts, the schedule as list and as calendar, and the freeze.
package policyroutes

import (
	"context"
	"net/http"
	"time"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/app/tandems"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

// Feed is the operation that calendars call.
const Feed = "get-schedule-feed"

// Needs are what the operations are about.
type Needs struct {
	Store    *store.Store
	Policies *policies.Policies
	Tandems  *tandems.Tandems
	Freeze   Freezer
	Now      func() time.Time
}

// Freezer freezes everything and lets it go on.
type Freezer interface {
	Now() records.Freeze
	Begin(ctx context.Context, by access.Actor, reason string) (records.Freeze, error)
	End(ctx context.Context, by access.Actor, reason string) (records.Freeze, error)
}

// NamedInput names a window, a policy or an order. (Embedded inputs must be exported: huma
// reads them by reflection.)
type NamedInput struct {
	Name string `path:"name" maxLength:"63"`
}

type removeInput struct {
	NamedInput
	Revision int64 `query:"revision" minimum:"1" required:"true" doc:"Of the one that was seen"`
}

type windowBody struct {
	Rule        string                    `json:"rule" minLength:"1" maxLength:"300" doc:"When it opens: a recurrence rule of RFC 5545, such as FREQ=WEEKLY;BYDAY=SA,SU"`
	Begins      string                    `json:"begins" minLength:"16" maxLength:"16" doc:"When it opened first, by the clock there: 2026-11-28T22:00"`
	Zone        string                    `json:"zone" minLength:"1" maxLength:"60" doc:"Time zone by whose clock it opens, such as Europe/Oslo"`
	Minutes     int                       `json:"minutes" minimum:"5" maximum:"10080" doc:"For how long it is open"`
	Description string                    `json:"description,omitempty" maxLength:"1000"`
	Labels      []string                  `json:"labels,omitempty" maxItems:"100" doc:"It counts for accounts with one of them"`
	Systems     []string                  `json:"systems,omitempty" maxItems:"10000" doc:"And for what is restarted there, whatever its account"`
	Dependents  []records.WindowDependent `json:"dependents,omitempty" maxItems:"10000" doc:"And for these"`
	Revision    int64                     `json:"revision,omitempty" minimum:"0" doc:"Of the window that was seen and is changed; absent for a new one"`
}

func (b windowBody) window(name string) records.Window {
	return records.Window{Name: name, Rule: b.Rule, Begins: b.Begins, Zone: b.Zone, Minutes: b.Minutes, Description: b.Description, Labels: b.Labels, Systems: b.Systems, Dependents: b.Dependents, Revision: b.Revision}
}

type saveWindowInput struct {
	NamedInput
	Body windowBody
}

type previewWindowInput struct{ Body windowBody }

// PolicyDraft is a policy as somebody would have it.
type PolicyDraft struct {
	Label      string `json:"label,omitempty" maxLength:"63" doc:"Of the accounts that it is for; absent for all in custody"`
	Precedence int    `json:"precedence" minimum:"0" maximum:"1000000" doc:"Where several are for one account, the one with the highest decides"`
	records.PolicySettings
	Window      string `json:"window,omitempty" maxLength:"63" doc:"In which they are rotated; absent for at any time"`
	Paused      bool   `json:"paused,omitempty" doc:"It decides, and nothing is rotated"`
	Description string `json:"description,omitempty" maxLength:"1000"`
	Revision    int64  `json:"revision,omitempty" minimum:"0" doc:"Of the policy that was seen and is changed; absent for a new one"`
}

func (b PolicyDraft) policy(name string) records.Policy {
	return records.Policy{Name: name, Label: b.Label, Precedence: b.Precedence, PolicySettings: b.PolicySettings, Window: b.Window, Paused: b.Paused, Description: b.Description, Revision: b.Revision}
}

type savePolicyInput struct {
	NamedInput
	Body PolicyDraft
}

type previewPolicyInput struct {
	NamedInput
	Body struct {
		PolicyDraft
		Remove bool `json:"remove,omitempty" doc:"What its removal would do"`
	}
}

type orderBody struct {
	Kind        string                `json:"kind" enum:"group,sequence" doc:"group: only some of them are restarted at the same time; sequence: what comes first is proven before what comes after it is restarted"`
	AtOnce      int                   `json:"at_once,omitempty" minimum:"0" maximum:"1000" doc:"Of a group: so many at the same time; 1 when it is 0"`
	Members     []records.OrderMember `json:"members" minItems:"1" maxItems:"50"`
	Description string                `json:"description,omitempty" maxLength:"1000"`
	Revision    int64                 `json:"revision,omitempty" minimum:"0" doc:"Of the order that was seen and is changed; absent for a new one"`
}

type saveOrderInput struct {
	NamedInput
	Body orderBody
}

// Register registers them.
func Register(r *routing.Router, n Needs) {
	registerWindows(r, n)
	registerPolicies(r, n)
	registerSchedule(r, n)
	routing.Add(r, http.MethodGet, "/orders", "list-orders", "List what people say of the order of restarts", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Order]], error) {
		return routing.Answer(n.Store.Orders(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/orders/{name}", "get-order", "Show one", func(ctx context.Context, in *NamedInput) (*routing.Body[records.Order], error) {
		return routing.Answer(n.Store.Order(ctx, in.Name))
	})
	routing.Add(r, http.MethodPut, "/orders/{name}", "save-order", "Add or change what is said of the order of restarts", func(ctx context.Context, in *saveOrderInput) (*routing.Body[records.Order], error) {
		b := in.Body
		return routing.Answer(n.Policies.SaveOrder(ctx, routing.Who(ctx), records.Order{Name: in.Name, Kind: b.Kind, AtOnce: b.AtOnce, Members: b.Members, Description: b.Description, Revision: b.Revision}))
	})
	routing.Add(r, http.MethodDelete, "/orders/{name}", "remove-order", "Remove it", func(ctx context.Context, in *removeInput) (*routing.Empty, error) {
		return &routing.Empty{}, n.Policies.RemoveOrder(ctx, routing.Who(ctx), in.Name, in.Revision)
	})
	registerTandems(r, n)
	registerRequirements(r, n)
	registerFreeze(r, n)
}

func registerWindows(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/windows", "list-windows", "List windows, with when they are open", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[policies.WindowNow]], error) {
		page, err := n.Store.Windows(ctx, in.Query())
		out := records.Page[policies.WindowNow]{Total: page.Total, More: page.More, Next: page.Next, Columns: page.Columns, Items: []policies.WindowNow{}}
		for _, w := range page.Items {
			now, err := n.Policies.Now(w)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, now)
		}
		return routing.Answer(out, err)
	})
	routing.Add(r, http.MethodPost, "/windows/preview", "preview-window", "Show when a window would be open; nothing is kept", func(ctx context.Context, in *previewWindowInput) (*routing.Body[policies.WindowNow], error) {
		return routing.Answer(n.Policies.PreviewWindow(routing.Who(ctx), in.Body.window("")))
	})
	routing.Add(r, http.MethodGet, "/windows/{name}", "get-window", "Show a window", func(ctx context.Context, in *NamedInput) (*routing.Body[policies.WindowNow], error) {
		w, err := n.Store.Window(ctx, in.Name)
		if err != nil {
			return nil, err
		}
		return routing.Answer(n.Policies.Now(w))
	})
	routing.Add(r, http.MethodPut, "/windows/{name}", "save-window", "Add or change a window", func(ctx context.Context, in *saveWindowInput) (*routing.Body[policies.WindowNow], error) {
		return routing.Answer(n.Policies.SaveWindow(ctx, routing.Who(ctx), in.Body.window(in.Name)))
	})
	routing.Add(r, http.MethodDelete, "/windows/{name}", "remove-window", "Remove a window that no policy rotates in", func(ctx context.Context, in *removeInput) (*routing.Empty, error) {
		return &routing.Empty{}, n.Policies.RemoveWindow(ctx, routing.Who(ctx), in.Name, in.Revision)
	})
}

func registerPolicies(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/policies", "list-policies", "List policies, the one that decides before all others first", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Policy]], error) {
		return routing.Answer(n.Store.Policies(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/policies/{name}", "get-policy", "Show a policy", func(ctx context.Context, in *NamedInput) (*routing.Body[records.Policy], error) {
		return routing.Answer(n.Store.Policy(ctx, in.Name))
	})
	routing.Add(r, http.MethodPost, "/policies/{name}/preview", "preview-policy", "Show what a policy would do, and what removing one would; nothing is kept", func(ctx context.Context, in *previewPolicyInput) (*routing.Body[policies.PolicyPreview], error) {
		return routing.Answer(n.Policies.Preview(ctx, routing.Who(ctx), in.Body.policy(in.Name), in.Body.Remove))
	})
	routing.Add(r, http.MethodPut, "/policies/{name}", "save-policy", "Add or change a policy", func(ctx context.Context, in *savePolicyInput) (*routing.Body[records.Policy], error) {
		return routing.Answer(n.Policies.Save(ctx, routing.Who(ctx), in.Body.policy(in.Name)))
	})
	routing.Add(r, http.MethodDelete, "/policies/{name}", "remove-policy", "Remove a policy", func(ctx context.Context, in *removeInput) (*routing.Empty, error) {
		return &routing.Empty{}, n.Policies.Remove(ctx, routing.Who(ctx), in.Name, in.Revision)
	})
	routing.Add(r, http.MethodGet, "/accounts/{id}/policy", "get-account-policy", "Say which policy decides for an account, and why", func(ctx context.Context, in *routing.IDInput) (*routing.Body[policies.Why], error) {
		return routing.Answer(n.Policies.Why(ctx, records.AccountID(in.ID)))
	})
}

type reasonInput struct {
	Body struct {
		Reason string `json:"reason" minLength:"1" maxLength:"500"`
	}
}

type thawInput struct {
	Reason string `query:"reason" minLength:"1" maxLength:"500" required:"true"`
}

func registerFreeze(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/freeze", "get-freeze", "Say whether everything is frozen, by whom and why", func(context.Context, *routing.Empty) (*routing.Body[records.Freeze], error) {
		return routing.Answer(n.Freeze.Now(), nil)
	})
	routing.Add(r, http.MethodPut, "/freeze", "freeze", "Freeze everything: nothing begins, and what runs waits where that is safe", func(ctx context.Context, in *reasonInput) (*routing.Body[records.Freeze], error) {
		return routing.Answer(n.Freeze.Begin(ctx, routing.Who(ctx), in.Body.Reason))
	})
	routing.Add(r, http.MethodDelete, "/freeze", "thaw", "Let everything go on", func(ctx context.Context, in *thawInput) (*routing.Body[records.Freeze], error) {
		return routing.Answer(n.Freeze.End(ctx, routing.Who(ctx), in.Reason))
	})
}
