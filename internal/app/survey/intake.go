package survey

import (
	"mossledger.example/moss/internal/core/estate"
)

// writeAtOnce is how many accounts one transaction takes in: each is synced.
const writeAtOnce = 4000

// intake takes accounts in beside the reading, some thousands at a time.
type intake struct {
	waiting []estate.Account
	batches chan []estate.Account
	ended   chan error
	over    bool
	result  error
}

func newIntake(put func([]estate.Account) error) *intake {
	i := &intake{batches: make(chan []estate.Account), ended: make(chan error, 1)}
	go func() {
		var err error
		for batch := range i.batches {
			if err == nil {
				err = put(batch)
			}
		}
		i.ended <- err
	}()
	return i
}

// add hands accounts over; the error of an earlier batch comes with end.
func (i *intake) add(accounts []estate.Account) error {
	i.waiting = append(i.waiting, accounts...)
	if len(i.waiting) >= writeAtOnce {
		i.batches <- i.waiting
		i.waiting = nil
	}
	return nil
}

// end waits until everything is taken in. It may be called twice.
func (i *intake) end() error {
	if !i.over {
		i.over = true
		if len(i.waiting) > 0 {
			i.batches <- i.waiting
		}
		close(i.batches)
		i.result = <-i.ended
	}
	return i.result
}
