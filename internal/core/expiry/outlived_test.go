package expiry

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What nobody can use comes before what nobody uses, that before what is merely old; what is not
// known is no reason, and neither is that nothing depends on it.
func TestWhatHasOutlivedItsPurpose(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	ago := func(days int) time.Time { return now.Add(-time.Duration(days) * Day) }
	all := Around{Delete: true, Disable: true}
	never := End{State: Never}
	for name, c := range map[string]struct {
		life   Life
		bounds Bounds
		around Around
		points int
		remedy Remedy
	}{
		"used lately":             {Life{Used: ago(3), Changed: ago(30), End: never, Enabled: true}, Bounds{}, all, 0, ""},
		"nothing is known":        {Life{End: never, Enabled: true}, Bounds{}, all, 0, ""},
		"unused":                  {Life{Used: ago(100), End: never, Enabled: true}, Bounds{}, all, 35, RemedyDelete},
		"unused for a year":       {Life{Used: ago(400), End: never, Enabled: true}, Bounds{}, all, 55, RemedyDelete},
		"unused, and used by two": {Life{Used: ago(400), End: never, Enabled: true}, Bounds{}, Around{Dependents: 2, Delete: true}, 40, RemedyLook},
		"lets it rest longer":     {Life{Used: ago(400), End: never, Enabled: true}, Bounds{Idle: 500 * Day}, all, 0, ""},
		"lets it rest less":       {Life{Used: ago(8), End: never, Enabled: true}, Bounds{Idle: 7 * Day}, all, 35, RemedyDelete},
		"disabled":                {Life{Used: ago(3), End: never}, Bounds{}, all, 50, RemedyDelete},
		"ended":                   {Life{End: End{State: Ends, At: ago(1)}, Enabled: true}, Bounds{}, all, 55, RemedyDelete},
		"all of it":               {Life{Used: ago(900), Changed: ago(900), End: End{State: Ended}}, Bounds{}, all, 100, RemedyDelete},
		"old, and needed":         {Life{Used: ago(1), Changed: ago(800), End: never, Enabled: true}, Bounds{}, Around{Dependents: 3, Delete: true}, 10, RemedyRotate},
		"old, and by itself":      {Life{Used: ago(1), Changed: ago(800), End: never, Enabled: true}, Bounds{}, all, 10, RemedyRotate},
		"a key made long ago":     {Life{Born: ago(800), End: never, Enabled: true}, Bounds{}, all, 10, RemedyRotate},
		"its owner is gone":       {Life{Used: ago(1), End: never, Enabled: true}, Bounds{}, Around{OwnerGone: "mara", Disable: true}, 35, RemedyDisable},
		"disabled, stays so":      {Life{End: never}, Bounds{}, Around{Disable: true}, 50, RemedyLook},
	} {
		is := c.life.Judge(now, c.bounds, c.around)
		assert.Equal(t, c.points, is.Points, "%s: %v", name, is.Reasons)
		assert.Equal(t, c.remedy, is.Remedy, name)
		assert.Equal(t, c.points > 0, len(is.Reasons) > 0, name)
	}
}
