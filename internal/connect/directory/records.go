package directory

import (
	"context"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/change"
)

// mostRecords bounds what is asked for.
const mostRecords = 2000

// Records implements connect.Recorder: who changed an entry last, and when (RFC 4512,
// section 3.4), where the directory tells that. One with the Windows-domain schema keeps it
// in the logs of its controllers only, which are not read.
func (Connector) Records(ctx context.Context, t connect.Target, since time.Time) (change.Log, error) {
	s, failure := open(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return change.Log{}, failure
	}
	defer s.close()
	if s.windows() {
		return change.Log{}, nil
	}
	// A minute earlier: what is told is counted by whoever asked.
	since = since.Add(-time.Minute).UTC()
	entries, failure := s.find(s.bases, mostRecords, "(&"+rfcAccounts+"(modifyTimestamp>="+since.Format("20060102150405Z")+"))", "modifiersName", "modifyTimestamp", "pwdChangedTime")
	if failure != nil {
		return change.Log{}, failure
	}
	out := change.Log{Since: since, Sparse: true}
	for _, e := range entries {
		r := change.Record{At: values.GeneralizedTime(e.GetAttributeValue("modifyTimestamp")), Who: e.GetAttributeValue("modifiersName"), Act: change.Altered, Of: e.DN}
		if r.Who == "" || r.At.IsZero() {
			continue // not shown to the steward
		}
		// One modification can set both; the entry tells of its last one.
		if at := values.GeneralizedTime(e.GetAttributeValue("pwdChangedTime")); at.Equal(r.At) {
			r.Act = change.SetPassword
		}
		out.Records = append(out.Records, r)
	}
	return out, nil
}
