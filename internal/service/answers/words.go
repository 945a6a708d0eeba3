// Package answers takes from answers about bad input what was sent: it may be a
// password in the wrong place.
package answers

import (
	"regexp"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
)

var once sync.Once

// HideValues makes answers about bad input name the field and never repeat its
// value, for the whole process.
func HideValues() { once.Do(hideValues) }

func hideValues() {
	plain, inContext := huma.NewError, huma.NewErrorWithContext
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		return withoutValues(plain(status, message, errs...))
	}
	huma.NewErrorWithContext = func(ctx huma.Context, status int, message string, errs ...error) huma.StatusError {
		return withoutValues(inContext(ctx, status, message, errs...))
	}
}

func withoutValues(err huma.StatusError) huma.StatusError {
	if model, ok := err.(*huma.ErrorModel); ok {
		if model.Detail == "validation failed" {
			model.Detail = "the request is not as the description of the API says"
		}
		for _, detail := range model.Errors {
			detail.Value = nil
			detail.Message = plainWords(detail.Message)
		}
	}
	return err
}

var quotedText = regexp.MustCompile("\"[^\"]*\"|'[^']*'|`[^`]*`")

// plainWords are a validation's words without those of the programming language,
// and without what was sent: it may be a password in the wrong place.
func plainWords(message string) string {
	for _, known := range []struct{ contains, words string }{
		{"cannot unmarshal", "a value is of another kind than the description of the API says"},
		{"invalid character", "this is not JSON"},
		{"unexpected end of JSON", "the JSON ends too early"},
		{"unexpected EOF", "the JSON ends too early"},
		{"invalid integer", "a whole number is expected"},
		{"strconv.", "a number is expected"},
		{"invalid boolean", "true or false is expected"},
		{"invalid number", "a number is expected"},
		{"request body is required", "a request body is expected"},
		{"unexpected property", "the description of the API knows no such field"},
	} {
		if strings.Contains(message, known.contains) {
			return known.words
		}
	}
	if strings.HasPrefix(message, "expected value to be one of ") {
		return message // the allowed ones are the API's own
	}
	return quotedText.ReplaceAllString(message, "it")
}
