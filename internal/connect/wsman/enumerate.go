package wsman

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Query says what to enumerate: all instances of the resource, or those that
// a WQL filter chooses. A filter goes to the resource of a whole name space
// (.../root/cimv2/*); hosts refuse it on that of a class.
type Query struct {
	URI string
	WQL string
}

// pullPatience is how often in a row a server may say that nothing was ready.
const pullPatience = 50

// Enumerate hands over instances as they arrive (WS-Enumeration, with the
// optimised form of DSP0226 section 8.3). An error of each ends it and is
// returned. When the server forgot the enumeration between two replies the
// error is a Fault with ExpiredContext: what was handed over is right, but is
// not all.
func (c *Client) Enumerate(ctx context.Context, q Query, each func(*Instance) error) error {
	body := fmt.Sprintf("<n:Enumerate><w:OptimizeEnumeration/><w:MaxElements>%d</w:MaxElements>", c.config.Limits.Batch)
	if q.WQL != "" {
		body += `<w:Filter Dialect="` + dialectWQL + `">` + escape(q.WQL) + `</w:Filter>`
	}
	resource := Resource{URI: q.URI}
	e := &enumeration{client: c, resource: resource, each: each}
	first := request{action: nsEnumerate + "/Enumerate", resource: resource, body: body + "</n:Enumerate>"}
	if err := c.exchange(ctx, c.message(first, true, "EnumerateResponse", nsEnumerate), e.take); err != nil {
		return e.end(ctx, err)
	}
	idle, waits := 0, 0
	for !e.over {
		if e.context == "" {
			return protocol("an enumeration goes on without a context")
		}
		before := e.handed
		pull := request{
			action: nsEnumerate + "/Pull", resource: resource,
			body: fmt.Sprintf("<n:Pull><n:EnumerationContext>%s</n:EnumerationContext><n:MaxElements>%d</n:MaxElements></n:Pull>", escape(e.context), c.config.Limits.Batch),
		}
		// A pull whose reply was lost cannot be repeated: what it carried is
		// gone with it.
		err := c.exchange(ctx, c.message(pull, false, "PullResponse", nsEnumerate), e.take)
		switch {
		case Is(err, TimedOut) && waits < safeAttempts:
			waits++ // nothing was ready in time; the context lives on
			continue
		case err != nil:
			return e.end(ctx, err)
		case e.handed == before:
			if idle++; idle > pullPatience {
				return e.end(ctx, protocol("%d replies in a row carried nothing", idle))
			}
		default:
			idle, waits = 0, 0
		}
	}
	return nil
}

type enumeration struct {
	client   *Client
	resource Resource
	each     func(*Instance) error
	context  string
	over     bool
	handed   int
	refused  error // of each
}

// take reads an EnumerateResponse or PullResponse.
func (e *enumeration) take(d *decoder, _ *Node) error {
	for {
		child, err := d.next()
		if err != nil {
			return err
		}
		if child == nil {
			return nil
		}
		if child.Local == "Items" {
			if err := e.items(d); err != nil {
				return err
			}
			continue
		}
		tree, err := d.tree(child, 0)
		if err != nil {
			return err
		}
		switch child.Local {
		case "EnumerationContext":
			e.context = strings.TrimSpace(tree.Content)
		case "EndOfSequence":
			e.over = true
		}
	}
}

func (e *enumeration) items(d *decoder) error {
	for {
		start, err := d.next()
		if err != nil || start == nil {
			return err
		}
		item, err := d.tree(start, 0)
		if err != nil {
			return err
		}
		e.handed++
		if e.refused = e.each(item); e.refused != nil {
			return e.refused
		}
	}
}

// end lets go of the server's context, which would otherwise count against
// its limit for a while, and returns the error.
func (e *enumeration) end(ctx context.Context, err error) error {
	if e.context != "" && !e.over && !Is(err, ExpiredContext) && !errors.As(err, new(*TransportError)) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
		defer cancel()
		release := request{action: nsEnumerate + "/Release", resource: e.resource, body: "<n:Release><n:EnumerationContext>" + escape(e.context) + "</n:EnumerationContext></n:Release>"}
		// Whether it worked changes nothing for the caller.
		_ = e.client.exchange(ctx, e.client.message(release, false, "", ""), func(*decoder, *Node) error { return nil })
	}
	if e.refused != nil {
		return e.refused
	}
	return err
}
