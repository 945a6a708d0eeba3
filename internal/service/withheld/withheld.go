// Package withheld keeps secrets in requests from whatever decodes them.
//
// They are taken out of the body before anything else reads it: decoding and
// checking JSON copies every string several times, and nobody can overwrite a
// copy that is garbage already. In the body stands a number in its place; the
// handler's Secret gets the value by that number. When the request is answered
// the bytes that arrived are overwritten.
package withheld

import (
	"bytes"
	"encoding/json"
	"errors"
	"strconv"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humafiber"
	"github.com/gofiber/fiber/v3"

	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/service/connections"
)

// Secret is a secret in a request body. It is never part of an answer.
type Secret struct{ secret.Value }

var _ huma.SchemaProvider = Secret{}

// format marks the fields that are secrets in the description of the API.
const format = "password"

// UnmarshalJSON reads it from a JSON string.
func (v *Secret) UnmarshalJSON(raw []byte) error {
	var text string
	if json.Unmarshal(raw, &text) != nil {
		return errors.New("a secret must be a JSON string") // the error of the package would quote it
	}
	v.Value = secret.New(text)
	return nil
}

// Schema implements huma.SchemaProvider.
func (Secret) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{Type: huma.TypeString, Format: format, Description: "Never logged, never answered"}
}

// Fields knows which fields of the operations of an API are secrets.
type Fields struct {
	api   huma.API
	known sync.Map // operation to the names of its secret fields
}

// Of serves the operations of an API.
func Of(api huma.API) *Fields { return &Fields{api: api} }

type key struct{}

// withheld are the secrets of one request.
type withheld struct {
	values []secret.Value
	raw    [][]byte // as they stood in the body, to find them in what was read
}

const prefix = "withheld:"

// Names are the names of the fields of an operation's body that are secrets, as
// its description says.
func (f *Fields) Names(operation *huma.Operation) []string {
	if known, ok := f.known.Load(operation.OperationID); ok {
		return known.([]string) //nolint:forcetypeassert // nothing else is kept there
	}
	var names []string
	if operation.RequestBody != nil && operation.RequestBody.Content["application/json"] != nil {
		schema := operation.RequestBody.Content["application/json"].Schema
		if schema != nil && schema.Ref != "" {
			schema = f.api.OpenAPI().Components.Schemas.SchemaFromRef(schema.Ref)
		}
		if schema != nil {
			for name, property := range schema.Properties {
				if property.Format == format {
					names = append(names, name)
				}
			}
		}
	}
	f.known.Store(operation.OperationID, names)
	return names
}

// Withhold is middleware of operations whose body has secrets.
func (f *Fields) Withhold(ctx huma.Context, next func(huma.Context)) {
	names := f.Names(ctx.Operation())
	c := humafiber.Unwrap(ctx)
	if len(names) == 0 || ctx.Header("Content-Encoding") != "" {
		next(ctx)
		return
	}
	w := &withheld{}
	w.take(c, names)
	c.Locals(key{}, w)
	defer w.forget(c)
	next(ctx)
}

// take takes the secrets out of the body. A body that is no JSON object is left
// for the decoder to refuse.
func (w *withheld) take(c fiber.Ctx, names []string) {
	body := c.Request().Body()
	var fields map[string]json.RawMessage // copies that belong to us
	if json.Unmarshal(body, &fields) != nil {
		return
	}
	for given, raw := range fields {
		if len(raw) == 0 || raw[0] != '"' || !isOneOf(given, names) {
			continue
		}
		var text heldText
		if json.Unmarshal(raw, &text) != nil {
			continue
		}
		fields[given] = json.RawMessage(strconv.Quote(prefix + strconv.Itoa(len(w.values))))
		w.values = append(w.values, secret.Hold(text.bytes))
		w.raw = append(w.raw, raw[1:len(raw)-1])
	}
	if len(w.values) == 0 {
		return
	}
	without, err := json.Marshal(fields)
	if err != nil {
		return
	}
	clear(body[:cap(body)])
	c.Request().SetBodyRaw(without)
}

// isOneOf compares as the decoder does, which takes a name in any case.
func isOneOf(given string, names []string) bool {
	for _, name := range names {
		if strings.EqualFold(given, name) {
			return true
		}
	}
	return false
}

// forget overwrites what arrived. The values live as long as their users.
func (w *withheld) forget(c fiber.Ctx) {
	if conn, ours := c.RequestCtx().Conn().(*connections.Forgetful); ours {
		conn.Forget(w.raw)
	}
	for _, raw := range w.raw {
		clear(raw)
	}
}

// heldText is the text of a JSON string in bytes that can be overwritten.
type heldText struct{ bytes []byte }

// UnmarshalText implements encoding.TextUnmarshaler. What it is given is part
// of the input, or a buffer of its own that nobody else sees.
func (h *heldText) UnmarshalText(text []byte) error {
	h.bytes = bytes.Clone(text)
	return nil
}

// Resolve implements huma.Resolver: it puts the value in its place.
func (v *Secret) Resolve(ctx huma.Context) []error {
	number, is := strings.CutPrefix(v.RevealString(), prefix)
	if !is {
		return nil
	}
	if w, ok := humafiber.Unwrap(ctx).Locals(key{}).(*withheld); ok {
		if at, err := strconv.Atoi(number); err == nil && at >= 0 && at < len(w.values) {
			v.Value = w.values[at]
		}
	}
	return nil
}
