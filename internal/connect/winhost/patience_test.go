package winhost

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/diagnosis"
)

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
