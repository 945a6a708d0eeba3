// Package configurationroutes has the operations about what a team decided, as text.
package configurationroutes

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"

	"mossledger.example/moss/internal/app/configuration"
	"mossledger.example/moss/internal/service/routing"
)

type previewInput struct{ Body configuration.Document }

type applyInput struct {
	Body struct {
		Document configuration.Document `json:"document"`
		Mark     string                 `json:"mark" maxLength:"200" doc:"Of the preview of this very document: what it showed is what is applied"`
		Reason   string                 `json:"reason,omitempty" maxLength:"500" doc:"Recorded"`
	}
}

// Register registers them.
func Register(r *routing.Router, app func() *configuration.Configuration) {
	routing.Add(r, http.MethodPost, "/configuration/preview", "preview-configuration", "Show what applying a text would change; nothing is kept", func(ctx context.Context, in *previewInput) (*routing.Body[configuration.DocumentPreview], error) {
		return routing.Answer(app().Preview(ctx, routing.Who(ctx), in.Body))
	})
	routing.Add(r, http.MethodPost, "/configuration/apply", "apply-configuration", "Apply a text whose preview was seen: all of it, or nothing; where a part takes a second person, all of it waits", func(ctx context.Context, in *applyInput) (*routing.Body[configuration.DocumentApplied], error) {
		return routing.Answer(app().Apply(ctx, routing.Who(ctx), in.Body.Document, in.Body.Mark, in.Body.Reason))
	})
	routing.Add(r, http.MethodGet, "/configuration/schema", "get-schema", "The JSON Schema of a text (draft 2020-12)", func(context.Context, *routing.Empty) (*routing.Body[map[string]any], error) {
		return routing.Answer(Schema(r))
	})
}

// Schema is the JSON Schema of a document, by itself: made of the description of the API,
// which has it for what is applied.
func Schema(r *routing.Router) (map[string]any, error) {
	all := r.API.OpenAPI().Components.Schemas.Map()
	raw, err := json.Marshal(all)
	if err != nil {
		return nil, err
	}
	var defs map[string]map[string]any
	if err := json.Unmarshal(bytes.ReplaceAll(raw, []byte("#/components/schemas/"), []byte("#/$defs/")), &defs); err != nil {
		return nil, err
	}
	out, kept := defs["Document"], map[string]any{}
	var need func(v any)
	need = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if ref, is := v["$ref"].(string); is {
				name := ref[len("#/$defs/"):]
				if _, known := kept[name]; !known {
					kept[name] = defs[name]
					need(any(defs[name]))
				}
			}
			for _, one := range v {
				need(one)
			}
		case []any:
			for _, one := range v {
				need(one)
			}
		}
	}
	need(any(out))
	out["$schema"], out["title"], out["$defs"] = "https://json-schema.org/draft/2020-12/schema", "What a team decided, for Moss Ledger", kept
	return out, nil
}
