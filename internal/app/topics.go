package app

import (
	"fmt"
	"strconv"
	"strings"
	"sync"

	"mossledger.example/moss/internal/records"
)

// Topics wakes those who wait for a topic. What changed they read from the store.
type Topics struct {
	lock      sync.Mutex
	listeners map[string]map[chan struct{}]bool
}

func newTopics() *Topics { return &Topics{listeners: map[string]map[chan struct{}]bool{}} }

// Listen returns a channel that gets a value whenever the topic changes, and a
// function to let go of it.
func (b *Topics) Listen(topic string) (<-chan struct{}, func()) {
	ch := make(chan struct{}, 1)
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.listeners[topic] == nil {
		b.listeners[topic] = map[chan struct{}]bool{}
	}
	b.listeners[topic][ch] = true
	return ch, func() {
		b.lock.Lock()
		defer b.lock.Unlock()
		delete(b.listeners[topic], ch)
		if len(b.listeners[topic]) == 0 {
			delete(b.listeners, topic)
		}
	}
}

// Wake tells those who listen.
func (b *Topics) Wake(topics ...string) {
	b.lock.Lock()
	defer b.lock.Unlock()
	for _, topic := range topics {
		for ch := range b.listeners[topic] {
			select {
			case ch <- struct{}{}:
			default:
			}
		}
	}
}

// SurveyTopic names the topic of a survey.
func SurveyTopic(id records.SurveyID) string { return fmt.Sprintf("survey/%d", id) }

// RotationTopic names the topic of a rotation.
func RotationTopic(id records.RotationID) string { return fmt.Sprintf("rotation/%d", id) }

// RotationOf reads the number of a rotation out of such a name.
func RotationOf(topic string) (id records.RotationID, is bool) {
	digits, is := strings.CutPrefix(topic, "rotation/")
	n, err := strconv.ParseInt(digits, 10, 64)
	return records.RotationID(n), is && err == nil
}
