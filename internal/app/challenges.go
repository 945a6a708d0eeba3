package app

import (
	"sync"

	"mossledger.example/moss/internal/connect"
)

// Challenges are what authorities ask us over HTTP while a certificate is ordered (RFC 8555,
// section 8.3). Nothing of it is secret, and it is answered only while it is asked for.
type Challenges struct {
	lock    sync.Mutex
	answers map[string]string // by token
}

// Put has challenges answered until the end is called.
func (c *Challenges) Put(list []connect.Challenge) (end func()) {
	c.lock.Lock()
	defer c.lock.Unlock()
	if c.answers == nil {
		c.answers = map[string]string{}
	}
	for _, one := range list {
		c.answers[one.Token] = one.Answer
	}
	return func() {
		c.lock.Lock()
		defer c.lock.Unlock()
		for _, one := range list {
			delete(c.answers, one.Token)
		}
	}
}

// Answer is the answer to a challenge, while there is one.
func (c *Challenges) Answer(token string) (string, bool) {
	c.lock.Lock()
	defer c.lock.Unlock()
	answer, found := c.answers[token]
	return answer, found
}
