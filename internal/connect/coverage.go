package connect

// NewCoverage is that of a visit that has read nothing yet.
func NewCoverage() Coverage {
	return Coverage{Complete: map[string]bool{}, Why: map[string]string{}, Counts: map[string]int{}}
}

// Fail ends a visit: of the scopes that were not read completely the failure is why.
func (c *Coverage) Fail(watch *Stopwatch, f *Failure, scopes ...string) (Coverage, error) {
	watch.Fail(f)
	c.Stages = watch.Stages()
	for _, scope := range scopes {
		if !c.Complete[scope] {
			c.Why[scope] = f.Error()
		}
	}
	return *c, f
}
