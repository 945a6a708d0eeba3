package policyroutes

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
)

type saveRequirementInput struct {
	NamedInput
	Body struct {
		Label       string   `json:"label,omitempty" maxLength:"63" doc:"Of the accounts that it is for; absent for all"`
		Restarts    int      `json:"restarts,omitempty" minimum:"0" maximum:"100000" doc:"At least so many dependents are restarted"`
		Kinds       []string `json:"kinds,omitempty" maxItems:"50" doc:"Kinds of dependents that are counted; all when absent"`
		Unread      bool     `json:"unread,omitempty" doc:"Systems could not be read completely"`
		Hours       int      `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"For so long a request waits; 24 when it is 0"`
		Description string   `json:"description,omitempty" maxLength:"1000"`
		Reason      string   `json:"reason,omitempty" maxLength:"500" doc:"Why it is changed"`
		Revision    int64    `json:"revision,omitempty" minimum:"0" doc:"Of the requirement that was seen and is changed; absent for a new one"`
	}
}

type removeRequirementInput struct {
	NamedInput
	Revision int64  `query:"revision" minimum:"1" required:"true" doc:"Of the one that was seen"`
	Reason   string `query:"reason" maxLength:"500" doc:"Why"`
}

func registerRequirements(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/requirements", "list-requirements", "List for which rotations a second person is needed", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Requirement]], error) {
		return routing.Answer(n.Store.Requirements(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/requirements/{name}", "get-requirement", "Show one", func(ctx context.Context, in *NamedInput) (*routing.Body[records.Requirement], error) {
		return routing.Answer(n.Store.Requirement(ctx, in.Name))
	})
	routing.Add(r, http.MethodPut, "/requirements/{name}", "save-requirement", "Add for which rotations a second person is needed, or ask to change it", func(ctx context.Context, in *saveRequirementInput) (*routing.Body[routing.Waiting], error) {
		b := in.Body
		id, err := n.Policies.SaveRequirement(ctx, routing.Who(ctx), records.Requirement{Name: in.Name, Label: b.Label, Restarts: b.Restarts, Kinds: b.Kinds, Unread: b.Unread, Hours: b.Hours, Description: b.Description, Revision: b.Revision}, b.Reason)
		return routing.Answer(routing.Waiting{Approval: id}, err)
	})
	routing.Add(r, http.MethodDelete, "/requirements/{name}", "remove-requirement", "Remove one, or ask for it", func(ctx context.Context, in *removeRequirementInput) (*routing.Body[routing.Waiting], error) {
		id, err := n.Policies.RemoveRequirement(ctx, routing.Who(ctx), in.Name, in.Revision, in.Reason)
		return routing.Answer(routing.Waiting{Approval: id}, err)
	})
}
