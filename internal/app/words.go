package app

import (
	"fmt"
	"time"
)

// Day is a moment as people read it, in UTC.
func Day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// Number is an id that was kept as text; 0 when it is none.
func Number[ID ~int64](text string) ID {
	var n ID
	_, _ = fmt.Sscan(text, &n)
	return n
}

// ByService is who asks for the surveys that follow an act.
const ByService = "service"

// Counted counts systems in words.
func Counted(n int) string {
	if n == 1 {
		return "one system"
	}
	return fmt.Sprintf("%d systems", n)
}
