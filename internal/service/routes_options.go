package service

import (
	"context"
	"net/http"

	"mossledger.example/moss/internal/records"
)

// CommonOptionInput is an option of all systems that have a value in a field.
type CommonOptionInput struct {
	Field   string `json:"field" enum:"site,environment,owner,kind"`
	Value   string `json:"value" minLength:"1" maxLength:"200"`
	Name    string `json:"name" minLength:"1" maxLength:"50" doc:"Such as paths, search or search-exclude"`
	Setting string `json:"setting" minLength:"1" maxLength:"4000"`
}

func (s *Service) registerOptions() {
	add(s, http.MethodGet, "/options", "list-common-options", "List options of all systems of a site, environment, owner or kind", func(ctx context.Context, in *ListInput) (*body[records.Page[records.CommonOption]], error) {
		return answer(s.store.CommonOptions(ctx, in.Query()))
	})
	add(s, http.MethodPut, "/options", "set-common-option", "Give an option to all systems of a site, environment, owner or kind", func(ctx context.Context, in *body[CommonOptionInput]) (*empty, error) {
		o := in.Body
		return &empty{}, s.app.Inventory.SetCommonOption(ctx, who(ctx), records.CommonOption{Field: o.Field, Value: o.Value, Name: o.Name, Setting: o.Setting})
	})
	add(s, http.MethodDelete, "/options/{id}", "remove-common-option", "Take an option away from them", func(ctx context.Context, in *IDInput) (*empty, error) {
		return &empty{}, s.app.Inventory.RemoveCommonOption(ctx, who(ctx), records.CommonOptionID(in.ID))
	})
}
