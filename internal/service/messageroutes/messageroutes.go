// Package messageroutes has the operations about who is told what happens, and about the
// messages that tell it.
package messageroutes

import (
	"context"
	"maps"
	"net/http"
	"slices"

	"mossledger.example/moss/internal/app/messages"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

// NamedInput names a recipient. (Embedded inputs must be exported: huma reads them by
// reflection.)
type NamedInput struct {
	Name string `path:"name" maxLength:"63"`
}

type removeInput struct {
	NamedInput
	Revision int64 `query:"revision" minimum:"1" required:"true" doc:"Of the one that was seen"`
}

// RecipientDraft is a recipient as somebody would have it.
type RecipientDraft struct {
	Kind        string   `json:"kind" enum:"mail,syslog,webhook"`
	Address     string   `json:"address" minLength:"1" maxLength:"2000" doc:"An https address of a webhook, or host:port"`
	User        string   `json:"user,omitempty" maxLength:"200" doc:"Of mail: who signs in to the mail server"`
	From        string   `json:"from,omitempty" maxLength:"254" doc:"Of mail: the address that it is from"`
	To          []string `json:"to,omitempty" maxItems:"50" doc:"Of mail: the addresses of people"`
	TrustedCA   string   `json:"trusted_ca,omitempty" maxLength:"65536" doc:"Certificates in PEM that prove the other side; those that the machine trusts when absent"`
	Events      []string `json:"events,omitempty" maxItems:"100" doc:"Names of events, with * for any letters at the end; all when absent"`
	Least       string   `json:"least,omitempty" enum:"critical,error,warning,notice,informational" default:"warning" doc:"Nothing that is less grave"`
	Labels      []string `json:"labels,omitempty" maxItems:"100" doc:"Only what is about an account with one of them"`
	Secret      string   `json:"secret,omitempty" maxLength:"4096" writeOnly:"true" doc:"What messages to a webhook are signed with, or a password; absent to keep what there is"`
	Paused      bool     `json:"paused,omitempty"`
	Description string   `json:"description,omitempty" maxLength:"1000"`
	Revision    int64    `json:"revision,omitempty" minimum:"0" doc:"Of the recipient that was seen and is changed; absent for a new one"`
}

type saveInput struct {
	NamedInput
	Body RecipientDraft
}

// Said is what the other side said.
type Said struct {
	Said string `json:"said"`
}

// Again is how many messages are sent again.
type Again struct {
	Messages int64 `json:"messages"`
}

// EventName is an event that can be told.
type EventName struct {
	Name     string          `json:"name"`
	Severity notice.Severity `json:"severity" enum:"critical,error,warning,notice,informational" doc:"When all goes well"`
}

// Register registers them.
func Register(r *routing.Router, s *store.Store, app func() *messages.Messages) {
	routing.Add(r, http.MethodGet, "/recipients", "list-recipients", "List who is told what happens", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Recipient]], error) {
		return routing.Answer(s.Recipients(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/recipients/{name}", "get-recipient", "Show a recipient", func(ctx context.Context, in *NamedInput) (*routing.Body[records.Recipient], error) {
		return routing.Answer(s.Recipient(ctx, in.Name))
	})
	routing.Add(r, http.MethodPut, "/recipients/{name}", "save-recipient", "Add or change a recipient", func(ctx context.Context, in *saveInput) (*routing.Body[records.Recipient], error) {
		b := in.Body
		v := records.Recipient{Name: in.Name, Kind: b.Kind, Address: b.Address, Paused: b.Paused, Description: b.Description, Revision: b.Revision}
		v.RecipientSettings = records.RecipientSettings{User: b.User, From: b.From, To: b.To, TrustedCA: b.TrustedCA, Events: b.Events, Least: notice.Severity(b.Least), Labels: b.Labels}
		return routing.Answer(app().Save(ctx, routing.Who(ctx), v, secret.New(b.Secret)))
	})
	routing.Add(r, http.MethodDelete, "/recipients/{name}", "remove-recipient", "Remove a recipient, which is told so first", func(ctx context.Context, in *removeInput) (*routing.Empty, error) {
		return &routing.Empty{}, app().Remove(ctx, routing.Who(ctx), in.Name, in.Revision)
	})
	routing.Add(r, http.MethodPost, "/recipients/{name}/test", "test-recipient", "Send a test, and tell what the other side said", func(ctx context.Context, in *NamedInput) (*routing.Body[Said], error) {
		said, err := app().Test(ctx, routing.Who(ctx), in.Name)
		return routing.Answer(Said{said}, err)
	})
	routing.Add(r, http.MethodPost, "/recipients/{name}/retry", "retry-messages", "Send again what was given up", func(ctx context.Context, in *NamedInput) (*routing.Body[Again], error) {
		n, err := app().Retry(ctx, routing.Who(ctx), in.Name)
		return routing.Answer(Again{n}, err)
	})
	routing.Add(r, http.MethodGet, "/messages", "list-messages", "List messages, the latest first", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Message]], error) {
		return routing.Answer(s.AllMessages(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/event-names", "list-event-names", "List the events that are told", func(context.Context, *routing.Empty) (*routing.Body[[]EventName], error) {
		names := notice.Names()
		out := []EventName{}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			out = append(out, EventName{name, names[name]})
		}
		return routing.Answer(out, nil)
	})
}
