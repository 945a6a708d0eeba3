// Package remote is the contract of package connect over a wire: every call, its
// answer, its failure and the batches of a visit as JSON, secrets sealed to the
// other end. How messages travel is a Transport's matter. The conformance suite
// runs over it like over a connector that is near.
package remote

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"sync"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// Request is one call.
type Request struct {
	Call      string            `json:"call"` // unique
	Kind      estate.Kind       `json:"kind"`
	Method    string            `json:"method"`
	Arguments []json.RawMessage `json:"arguments"`
	Reply     [32]byte          `json:"reply"` // what secrets of the answer are sealed to
	// Sessions names the work whose sessions this call uses and leaves; "" for none.
	Sessions string `json:"sessions,omitempty"`
}

// Answer is what came of a call.
type Answer struct {
	Results []json.RawMessage `json:"results,omitempty"`
	Failure *connect.Failure  `json:"failure,omitempty"`
	Words   string            `json:"words,omitempty"` // of an error that is no failure
}

// Transport carries a request and its answer. batch is called with what a visit
// sends before it answers, never concurrently; an error from it ends the call, and
// is what Carry returns.
type Transport interface {
	Carry(ctx context.Context, request []byte, batch func([]byte) error) ([]byte, error)
}

// Server makes calls on connectors that are near it.
type Server struct {
	keys KeyPair
	find func(estate.Kind) (connect.Connector, bool)

	lock sync.Mutex
	kept map[string]*keptSessions // by their name
}

// NewServer makes a Server with keys of its own. find gives it connectors; nil for
// those that are registered.
func NewServer(keys KeyPair, find func(estate.Kind) (connect.Connector, bool)) *Server {
	if find == nil {
		find = connect.For
	}
	return &Server{keys: keys, find: find, kept: map[string]*keptSessions{}}
}

// Public is what clients seal secrets to.
func (s *Server) Public() [32]byte { return s.keys.Public() }

// contract is what may be called.
var (
	contract    = reflect.TypeFor[connect.Connector]()
	contextType = reflect.TypeFor[context.Context]()
	errorType   = reflect.TypeFor[error]()
	emitType    = reflect.TypeFor[func(connect.Batch) error]()
)

// Carry implements Transport for a client in the same process.
func (s *Server) Carry(ctx context.Context, raw []byte, batch func([]byte) error) ([]byte, error) {
	var request Request
	if err := json.Unmarshal(raw, &request); err != nil {
		return nil, fmt.Errorf("a request that cannot be read: %w", err)
	}
	answer := s.answer(ctx, request, batch)
	return json.Marshal(answer)
}

func (s *Server) answer(ctx context.Context, request Request, batch func([]byte) error) Answer {
	if request.Method == methodEndSessions {
		s.endSessions(request.Sessions)
		return Answer{}
	}
	connector, known := s.find(request.Kind)
	method, offered := contract.MethodByName(request.Method)
	if !known || !offered {
		return Answer{Words: fmt.Sprintf("nothing here makes the call %q on systems of the kind %q", request.Method, request.Kind)}
	}
	ctx, leave := s.sessions(ctx, request.Sessions)
	defer leave()
	in, out := reader{request.Call, s.keys}, writer{request.Call, request.Reply}
	var arguments []reflect.Value
	next := 0
	for i := range method.Type.NumIn() {
		switch of := method.Type.In(i); of {
		case contextType:
			arguments = append(arguments, reflect.ValueOf(ctx))
		case emitType:
			sent := 0
			arguments = append(arguments, reflect.ValueOf(func(b connect.Batch) error {
				sent++
				tree, err := out.write(reflect.ValueOf(b), fmt.Sprintf("batch.%d", sent))
				if err != nil {
					return err
				}
				raw, err := json.Marshal(tree)
				if err != nil {
					return err
				}
				return batch(raw)
			}))
		default:
			value := reflect.New(of).Elem()
			if next < len(request.Arguments) {
				if err := in.read(request.Arguments[next], value, fmt.Sprintf("in.%d", next)); err != nil {
					return Answer{Words: fmt.Sprintf("argument %d of %s: %v", next, request.Method, err)}
				}
			}
			next++
			arguments = append(arguments, value)
		}
	}
	var answer Answer
	for i, result := range reflect.ValueOf(connector).MethodByName(request.Method).Call(arguments) {
		if result.Type() == errorType {
			answer.fail(result)
			continue
		}
		tree, err := out.write(result, fmt.Sprintf("out.%d", i))
		if err != nil {
			return Answer{Words: err.Error()}
		}
		raw, err := json.Marshal(tree)
		if err != nil {
			return Answer{Words: err.Error()}
		}
		answer.Results = append(answer.Results, raw)
	}
	return answer
}

func (a *Answer) fail(result reflect.Value) {
	err, _ := result.Interface().(error)
	if err == nil {
		return
	}
	if !errors.As(err, &a.Failure) {
		a.Words = err.Error()
	}
}

// Client is a connector whose systems are reached from elsewhere.
type Client struct {
	transport   Transport
	to          [32]byte
	keys        KeyPair
	description connect.Description
}

// NewClient asks the other end for the description of a kind, and is its connector
// from then on. to is the other end's public key, learned beforehand.
func NewClient(ctx context.Context, transport Transport, kind estate.Kind, to [32]byte) (*Client, error) {
	keys, err := NewKeyPair()
	if err != nil {
		return nil, err
	}
	c := &Client{transport: transport, to: to, keys: keys, description: connect.Description{Kind: kind}}
	return c, c.call(ctx, "Describe", nil, nil, &c.description)
}

// call makes one call. Results are pointers.
func (c *Client) call(ctx context.Context, method string, emit func(connect.Batch) error, arguments []any, results ...any) error {
	request := Request{Call: rand.Text(), Kind: c.description.Kind, Method: method, Reply: c.keys.Public()}
	if kept := connect.SessionsOf(ctx); kept != nil && kept.AtEnd(c, func() { c.endSessions(kept.Name()) }) {
		request.Sessions = kept.Name()
	}
	out, in := writer{request.Call, c.to}, reader{request.Call, c.keys}
	for i, a := range arguments {
		tree, err := out.write(reflect.ValueOf(a), fmt.Sprintf("in.%d", i))
		if err != nil {
			return err
		}
		raw, err := json.Marshal(tree)
		if err != nil {
			return err
		}
		request.Arguments = append(request.Arguments, raw)
	}
	raw, err := json.Marshal(request)
	if err != nil {
		return err
	}
	taken := 0
	raw, err = c.transport.Carry(ctx, raw, func(raw []byte) error {
		taken++
		var b connect.Batch
		if err := in.read(raw, reflect.ValueOf(&b).Elem(), fmt.Sprintf("batch.%d", taken)); err != nil {
			return err
		}
		return emit(b)
	})
	if err != nil {
		return err // whether the act took effect is not known
	}
	var answer Answer
	if err := json.Unmarshal(raw, &answer); err != nil {
		return fmt.Errorf("an answer that cannot be read: %w", err)
	}
	for i, result := range results {
		if i < len(answer.Results) {
			if err := in.read(answer.Results[i], reflect.ValueOf(result).Elem(), fmt.Sprintf("out.%d", i)); err != nil {
				return err
			}
		}
	}
	switch {
	case answer.Failure != nil:
		return answer.Failure
	case answer.Words != "":
		return errors.New(answer.Words)
	}
	return nil
}
