// Package endroutes has the operations about what ends, and when.
package endroutes

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/app/assembly"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/policyroutes"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

// Feed is the operation that calendars call.
const Feed = "get-expiry-feed"

// Feeds reports whether an operation is one that calendars call.
func Feeds(operation string) bool { return operation == Feed || operation == policyroutes.Feed }

type listInput struct {
	routing.ListInput
	Label string `query:"label" maxLength:"63" doc:"Only of accounts with this label"`
}

type forecastInput struct {
	Days int `query:"days" minimum:"1" maximum:"3660" default:"90" doc:"How many, from today on, in UTC"`
}

// Forecast is what ends when, counted.
type Forecast struct {
	From  string            `json:"from" doc:"The first day, in UTC"`
	Days  []records.EndsDay `json:"days" nullable:"false" doc:"Days on which nothing ends are left out"`
	Past  int               `json:"past" doc:"What has ended before: of accounts that are enabled"`
	Never int               `json:"never" doc:"Of accounts that are enabled, what never ends"`
}

type endWish struct {
	AccountID   records.AccountID   `json:"account_id,omitempty" minimum:"1" doc:"Whose end it is"`
	DependentID records.DependentID `json:"dependent_id,omitempty" minimum:"1" doc:"Or of which entry that lets the holder of a key in"`
	Act         expiry.Act          `json:"act" enum:"set-end,extend,expire,disable,enable,delete,issue"`
	Of          expiry.What         `json:"of,omitempty" enum:"password,account,role,token,key,certificate,membership,right" doc:"What shall end; what its system offers first without it"`
	End         string              `json:"end,omitempty" maxLength:"40" doc:"Of set-end and extend: never, or a moment as RFC 3339 has it"`
	Certificate string              `json:"certificate,omitempty" maxLength:"16384" doc:"Of issue: the certificate of the key that shall be accepted, in PEM; the key ends when it does"`
	WatchHours  int                 `json:"watch_hours,omitempty" minimum:"1" maximum:"8784" doc:"Of delete: it is disabled first, and deleted when nothing has asked for it for so many hours"`
	BySeconds   int64               `json:"by_seconds,omitempty" minimum:"1" maximum:"3155760000" doc:"Of extend, in the place of end: how much later than now it ends"`
}

type rehearseInput struct {
	Body struct {
		Changes   []endWish          `json:"changes" minItems:"1" maxItems:"200"`
		OnFailure rotation.OnFailure `json:"on_failure,omitempty" enum:"undo,stop,continue" doc:"undo without it; what is deleted does not come back, and is stopped at"`
	}
}

type feed struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// Register registers them.
func Register(r *routing.Router, s *store.Store, application *assembly.Application, now func() time.Time) {
	routing.Add(r, http.MethodGet, "/expiry", "list-ends", "List what ends, of all kinds, what ends first at the top. That an account itself never ends is listed by the filters what=account and state=never alone", func(ctx context.Context, in *listInput) (*routing.Body[records.Page[records.EndRow]], error) {
		return routing.Answer(s.Ends(ctx, in.Label, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/expiry/timeline", "get-timeline", "Count what has ended, what ends within 7, 30 and 90 days, later, never, and what is not known", func(ctx context.Context, _ *routing.Empty) (*routing.Body[[]records.EndsPart], error) {
		return routing.Answer(s.Timeline(ctx))
	})
	routing.Add(r, http.MethodGet, "/expiry/forecast", "get-forecast", "Count what ends on each day from today on", func(ctx context.Context, in *forecastInput) (*routing.Body[Forecast], error) {
		return routing.Answer(forecast(ctx, s, now(), in.Days))
	})
	routing.Add(r, http.MethodGet, "/outlived", "list-outlived", "List what has outlived its purpose, of accounts that programs use and of keys, what has most first: unused, disabled, ended or unchanged for too long, or its owner is gone; with how each is ended safely. It is judged after each survey, and once a day", func(ctx context.Context, in *routing.ListInput) (*routing.Body[records.Page[records.Outlived]], error) {
		return routing.Answer(s.Outlived(ctx, in.Query()))
	})
	routing.Add(r, http.MethodGet, "/accounts/{id}/ends", "get-account-ends", "Tell when an account and what proves it end", func(ctx context.Context, in *routing.IDInput) (*routing.Body[[]records.EndRow], error) {
		list, err := s.EndsOf(ctx, records.AccountID(in.ID))
		return routing.Answer(append([]records.EndRow{}, list...), err)
	})
	routing.Add(r, http.MethodGet, "/accounts/{id}/lives", "get-account-lives", "Tell the lives of what proves an account, and of each of its keys: when it was made, first and last used, changed and ends, and why it may have outlived its purpose", func(ctx context.Context, in *routing.IDInput) (*routing.Body[[]Life], error) {
		return routing.Answer(lives(ctx, s, records.AccountID(in.ID), now()))
	})
	routing.Add(r, http.MethodPost, "/expiry/rehearsals", "rehearse-ends", "Rehearse that something ends, lasts longer, is disabled, enabled or deleted: what every holder will see then, in the words of its system. Nothing is changed; the amendment that it makes is started as others are", func(ctx context.Context, in *rehearseInput) (*routing.Body[records.Amendment], error) {
		var wishes []amend.EndWish
		for i, c := range in.Body.Changes {
			w, err := c.wish()
			if err != nil {
				return nil, fmt.Errorf("%w: change %d: %w", app.ErrInput, i+1, err)
			}
			wishes = append(wishes, w)
		}
		return routing.Answer(application.Amendments.RehearseEnds(ctx, routing.Who(ctx), wishes, in.Body.OnFailure))
	})
	op := routing.Describe(http.MethodGet, "/expiry.ics", Feed, "What ends within a year, as a calendar (RFC 5545): of accounts that something depends on or that are in custody, of keys and of certificates. With HTTP's basic authentication a token for the calendar alone is the password")
	op.Responses = map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"text/calendar": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(r.API, op, func(ctx context.Context, _ *routing.Empty) (*feed, error) {
		at := now()
		list, err := s.EndsInUse(ctx, at.AddDate(0, -1, 0), at.AddDate(1, 0, 0), mostEvents)
		if err != nil {
			return nil, r.Problem(err)
		}
		return &feed{ContentType: "text/calendar; charset=utf-8", Disposition: `inline; filename="expiry.ics"`, Body: []byte(calendarOf(list, at))}, nil
	})
}

// mostEvents of one feed: calendars are for people.
const mostEvents = 5000

func (c endWish) wish() (amend.EndWish, error) {
	w := amend.EndWish{Account: c.AccountID, Dependent: c.DependentID, Act: c.Act, Of: c.Of, By: time.Duration(c.BySeconds) * time.Second, Certificate: c.Certificate, Watch: time.Duration(c.WatchHours) * time.Hour}
	lasts := c.Act == expiry.SetEnd || c.Act == expiry.Extend
	switch {
	case (c.AccountID == 0) == (c.DependentID == 0):
		return w, errors.New("name an account or an entry, one of them")
	case (c.Act == expiry.Issue) != (c.Certificate != ""):
		return w, errors.New("a certificate is for issue, which needs one")
	case !lasts && (c.End != "" || c.BySeconds != 0):
		return w, fmt.Errorf("'%s' takes no end", c.Act)
	case c.BySeconds != 0 && (c.Act != expiry.Extend || c.End != ""):
		return w, errors.New("by_seconds is for extend, in the place of an end")
	case !lasts || c.BySeconds != 0:
		return w, nil
	case strings.EqualFold(c.End, "never"):
		w.End = expiry.End{State: expiry.Never}
		return w, nil
	}
	at, err := time.Parse(time.RFC3339, c.End)
	if err != nil {
		return w, fmt.Errorf("end %q is neither never nor a moment such as 2026-12-24T15:00:00Z", c.End)
	}
	w.End = expiry.At(at)
	return w, nil
}

func forecast(ctx context.Context, s *store.Store, now time.Time, days int) (Forecast, error) {
	today := now.UTC().Truncate(expiry.Day)
	out := Forecast{From: today.Format(time.DateOnly), Days: []records.EndsDay{}}
	list, err := s.EndsByDay(ctx, out.From, today.AddDate(0, 0, days).Format(time.DateOnly))
	if err != nil {
		return out, err
	}
	out.Days = append(out.Days, list...)
	parts, err := s.Timeline(ctx)
	for _, p := range parts {
		switch {
		case p.Live && p.Part == expiry.PartPast:
			out.Past += p.Count
		case p.Live && p.Part == expiry.PartNever:
			out.Never += p.Count
		}
	}
	return out, err
}

// calendarOf is what ends as RFC 5545 has it: each end is an event without a length, which is
// one that has no end of its own (section 3.6.1).
func calendarOf(list []records.EndRow, now time.Time) string {
	c := ics.NewCalendar()
	c.SetProductId("-//Moss Ledger//expiry//EN")
	c.SetMethod(ics.MethodPublish)
	c.SetName("What ends")
	c.SetRefreshInterval("PT1H") // RFC 7986
	for _, v := range list {
		if v.State != expiry.Ends {
			continue
		}
		e := c.AddEvent(fmt.Sprintf("end-%d@moss-ledger", v.ID))
		e.SetDtStampTime(now.UTC())
		e.SetStartAt(v.At.UTC())
		e.SetSummary(routing.CalendarText(fmt.Sprintf("%s of %s on %s ends", title(v.What), v.Name, v.System)))
		words := []string{}
		switch {
		case v.Dependents == 1:
			words = append(words, "One dependent uses it.")
		case v.Dependents > 1:
			words = append(words, fmt.Sprintf("%d dependents use it.", v.Dependents))
		}
		switch {
		case v.Place == "":
		case v.What == expiry.Membership:
			words = append(words, "It lies in the group "+v.Place+" until then.")
		case v.What == expiry.Right:
			words = append(words, "It may until then: "+v.Place)
		default:
			words = append(words, "It stands in "+v.Place+".")
		}
		if len(v.Labels) > 0 {
			words = append(words, "Labels: "+strings.Join(v.Labels, ", "))
		}
		e.SetDescription(routing.CalendarText(strings.Join(words, "\n")))
		e.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return c.Serialize(ics.WithNewLineWindows)
}

func title(w expiry.What) string { return strings.ToUpper(string(w)[:1]) + string(w)[1:] }
