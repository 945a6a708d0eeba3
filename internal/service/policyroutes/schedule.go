package policyroutes

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
)

type nightsInput struct {
	From  time.Time `query:"from" doc:"Now by default"`
	Until time.Time `query:"until" doc:"90 days later by default; at most a year and a day"`
}

// span is what is asked for, within what may be.
func (in nightsInput) span(now time.Time) (from, until time.Time, err error) {
	from, until = in.From, in.Until
	if from.IsZero() {
		from = now
	}
	if until.IsZero() {
		until = from.AddDate(0, 0, 90)
	}
	if !until.After(from) || until.Sub(from) > 367*24*time.Hour {
		return from, until, fmt.Errorf("%w: from one time until a later one, at most a year and a day after it", app.ErrInput)
	}
	return from, until, nil
}

// feed is a calendar.
type feed struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func registerSchedule(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/schedule", "list-turns", "List when credentials are rotated next, and by which policy", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Turn]], error) {
		return routing.Answer(n.Store.Turns(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/schedule/nights", "list-nights", "Say how many credentials are rotated when", func(ctx context.Context, in *nightsInput) (*routing.Body[[]policies.Night], error) {
		from, until, err := in.span(n.Now())
		if err != nil {
			return nil, err
		}
		return routing.Answer(n.Policies.Nights(ctx, from, until))
	})
	op := routing.Describe(http.MethodGet, "/schedule.ics", Feed, "The schedule as a calendar (RFC 5545); with HTTP's basic authentication a token for the calendar alone is the password")
	op.Responses = map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"text/calendar": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(r.API, op, func(ctx context.Context, _ *routing.Empty) (*feed, error) {
		now := n.Now()
		nights, err := n.Policies.Nights(ctx, now.Add(-24*time.Hour), now.AddDate(1, 0, 0))
		if err != nil {
			return nil, r.Problem(err)
		}
		return &feed{ContentType: "text/calendar; charset=utf-8", Disposition: `inline; filename="schedule.ics"`, Body: []byte(calendarOf(nights, now))}, nil
	})
}

// calendarOf is the schedule as RFC 5545 has it: each opening is an event.
func calendarOf(nights []policies.Night, now time.Time) string {
	c := ics.NewCalendar()
	c.SetProductId("-//Moss Ledger//schedule//EN")
	c.SetMethod(ics.MethodPublish)
	c.SetName("Rotations")
	c.SetRefreshInterval("PT1H") // RFC 7986
	for _, night := range nights {
		sum := sha256.Sum256([]byte(night.From.UTC().Format(time.RFC3339) + "\x00" + night.Policy))
		e := c.AddEvent(hex.EncodeToString(sum[:12]) + "@moss-ledger")
		e.SetDtStampTime(now.UTC())
		e.SetStartAt(night.From.UTC())
		e.SetEndAt(night.To.UTC())
		what := "credentials"
		if night.Count == 1 {
			what = "credential"
		}
		e.SetSummary(routing.CalendarText(fmt.Sprintf("Rotation of %d %s (%s)", night.Count, what, night.Policy)))
		words := strings.Join(night.Credentials, "\n")
		if more := night.Count - len(night.Credentials); more > 0 {
			words += fmt.Sprintf("\nand %d more", more)
		}
		e.SetDescription(routing.CalendarText(words))
		e.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return c.Serialize(ics.WithNewLineWindows)
}
