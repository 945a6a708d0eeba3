package winhost

import (
	"encoding/xml"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/diagnosis"
)

func pending(point, hint int) *instance {
	i := &wsman.Node{Local: "Win32_Service", Attributes: []xml.Attr{}}
	i.Set("CheckPoint", fmt.Sprint(point))
	i.Set("WaitHint", fmt.Sprint(hint))
	return i
}

// How long is waited follows what the service tells: progress, and a hint.
func TestPatienceFollowsProgress(t *testing.T) {
	at := func(minutes float64) time.Time {
		return time.Date(2026, 11, 28, 2, 0, 0, 0, time.UTC).Add(time.Duration(minutes * float64(time.Minute)))
	}
	type look struct {
		minute      float64
		point, hint int
		over        bool
	}
	for name, looks := range map[string][]look{
		"tells nothing":          {{0, 0, 0, false}, {0.5, 0, 0, false}, {0.8, 0, 0, true}},
		"gets on":                {{0, 1, 0, false}, {0.7, 2, 0, false}, {1.4, 3, 0, false}, {2.2, 3, 0, true}},
		"hints":                  {{0, 1, 180000, false}, {2.9, 1, 180000, false}, {3.1, 1, 180000, true}},
		"hints beyond all reach": {{0, 1, 2000000000, false}, {9.9, 1, 2000000000, false}, {10.1, 1, 2000000000, true}},
		"goes back":              {{0, 5, 0, false}, {0.8, 4, 0, true}},
	} {
		var wait patience
		for _, l := range looks {
			assert.Equal(t, l.over, wait.over(pending(l.point, l.hint), at(l.minute)), "%s at minute %v", name, l.minute)
		}
	}
}

func TestRecordsAreReadByNumberAndData(t *testing.T) {
	data := func(text string) []string {
		var out []string
		for _, r := range text + "\x00" {
			out = append(out, fmt.Sprint(int(r)&0xff), fmt.Sprint(int(r)>>8))
		}
		return out
	}
	for _, v := range []struct {
		code       int
		list, data []string
		hint       diagnosis.Code
		start      bool
	}{
		{7036, []string{"Anlegestelle", "ausgef\u00fchrt"}, data("Berth/4"), "", true},
		{7036, []string{"Anlegestelle", "beendet"}, data("Berth/1"), "", false},
		{7036, []string{"Berth", "running"}, nil, "", true},
		{7036, []string{"Berth", "running"}, data("Berth/1"), "", false},
		{7036, []string{"Berth", "running"}, []string{"66"}, "", false},
		{7036, []string{"Berth", "running"}, []string{"x", "y"}, "", false},
		{7035, []string{"Berth", "stop"}, nil, "", false},
		{7042, []string{"Berth", "stop"}, nil, diagnosis.StoppedBy, false},
		{7040, []string{"Berth", "auto start", "disabled"}, nil, diagnosis.SwitchedOff, false},
		{7009, []string{"30000", "Berth"}, nil, diagnosis.Program, false},
		{7038, []string{"Berth", "x", "%%1326"}, nil, diagnosis.WrongPassword, false},
		{7038, nil, nil, "", false},
	} {
		hint, _, start := meaning(v.code, v.list, v.data)
		assert.Equal(t, v.hint, hint, "%d %v", v.code, v.list)
		assert.Equal(t, v.start, start, "%d %v", v.code, v.list)
	}
	assert.Equal(t, 1, subject(7011))
	assert.Equal(t, 0, subject(7034))
}
