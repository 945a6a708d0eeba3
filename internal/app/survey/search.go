package survey

import (
	"slices"
	"time"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// search is a reading of all hosts that is about to begin, because something
// new is looked for. Until its delay is over it takes in what else comes; until
// it has begun, whoever needs the result waits for it.
type search struct {
	begun chan struct{}
	over  bool // the delay is
}

// searchDelay gathers several takings into one search.
const searchDelay = 300 * time.Millisecond

// SearchLater reads the files of all hosts again: until now nothing could be
// compared with the value that was just taken into custody.
func (surveys *Surveys) SearchLater() {
	surveys.lock.Lock()
	defer surveys.lock.Unlock()
	if len(surveys.searching) > 0 && !surveys.searching[len(surveys.searching)-1].over || !surveys.base.Begin() {
		return
	}
	s := &search{begun: make(chan struct{})}
	surveys.searching = append(surveys.searching, s)
	go func() {
		defer surveys.base.Work.Done()
		defer func() {
			surveys.lock.Lock()
			surveys.searching = slices.DeleteFunc(surveys.searching, func(other *search) bool { return other == s })
			surveys.lock.Unlock()
			close(s.begun)
		}()
		waited := connect.Wait(surveys.base.Context, searchDelay)
		surveys.lock.Lock()
		s.over = true
		surveys.lock.Unlock()
		if waited != nil {
			return
		}
		all, err := surveys.store.AllSystems(surveys.base.Context)
		if err != nil {
			surveys.base.Log.Error("a search could not begin", "error", err)
			return
		}
		var hosts []string
		for _, v := range all {
			// One that was never read is read when it suits.
			if estate.Kind(v.Kind) == estate.KindUnixHost && !v.Visited.IsZero() {
				hosts = append(hosts, v.Name)
			}
		}
		if len(hosts) == 0 {
			return
		}
		if _, err := surveys.Start(surveys.base.Context, access.Service(), hosts); err != nil && surveys.base.Context.Err() == nil {
			surveys.base.Log.Error("a search could not begin", "error", err)
		}
	}()
}
