// Package pictures keeps what was drawn as long as nothing that it is made of changes.
package pictures

import "sync"

// Pictures keeps the pictures that were asked for last, as long as nothing that
// they are made of changes.
type Pictures struct {
	lock       sync.Mutex
	generation int64
	graphs     map[string]*keptGraph
}

type keptGraph struct {
	once sync.Once
	text []byte
	err  error
}

// mostPictures are kept.
const mostPictures = 32

// Of gives the picture of a key, which walk draws when it is not kept. It is kept
// for a generation.
func (p *Pictures) Of(key string, generation int64, walk func() ([]byte, error)) ([]byte, error) {
	p.lock.Lock()
	if p.generation != generation || len(p.graphs) >= mostPictures || p.graphs == nil {
		p.generation, p.graphs = generation, map[string]*keptGraph{}
	}
	v := p.graphs[key]
	if v == nil {
		v = &keptGraph{}
		p.graphs[key] = v
	}
	p.lock.Unlock()
	v.once.Do(func() { v.text, v.err = walk() }) // several who ask wait for one
	if v.err != nil {
		p.lock.Lock()
		delete(p.graphs, key)
		p.lock.Unlock()
	}
	return v.text, v.err
}
