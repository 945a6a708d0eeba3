package values

import "testing"

// Whatever a directory sends in these forms, reading it ends without a panic.
func FuzzValues(f *testing.F) {
	f.Add("133000000000000000", []byte{1, 1, 0, 0, 0, 0, 0, 5, 1, 0, 0, 0})
	f.Fuzz(func(_ *testing.T, text string, raw []byte) {
		FileTime(text)
		GeneralizedTime(text)
		SIDText(raw)
		_, _ = GUIDFilter(GUIDText(raw))
	})
}
