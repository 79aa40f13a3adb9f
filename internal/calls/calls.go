// Package calls is the table of what can be asked of a site's engine, wherever that runs.
//
// A call is one entry of the table: its name, its question and its answer, what the engine does, and, where the types
// do not cross a connection as they are, the form in which they do. From it follow the call of an engine here (Here),
// of one at the far end (package agent, client and server), and its repetition over a connection that was lost (package
// reach): each of them takes any call through Do.
//
// A call may be made again: asked twice it does no more than asked once. Calls take turns where several are made at
// once, but for those of an agent's client, which takes one at a time. What a call leaves for the next has a number, an
// ID; an engine that does not know it, since it is another one or was asked for something else meanwhile, says
// ErrForgotten.
package calls

import (
	"context"
	"errors"
	"fmt"

	"tartine/internal/fsys"
	"tartine/internal/site"
)

// Engine takes calls.
type Engine interface {
	// Do makes a call. The question and what the answer points to are of the call's types. The watch may be nil.
	Do(ctx context.Context, call Any, question, answer any, watch *site.Watch) error
	// Abilities tells what the place of the site can do.
	Abilities() fsys.Abilities
}

// Foreteller is an engine that can be told while a survey is under way, or before it, that the next comparison will be with something else
// than is recorded: it is ready for that then. It only saves time.
type Foreteller interface{ Foretell() }

// Call is an entry of the table, with a question of type Q and an answer of type A.
type Call[Q, A any] struct {
	Name   string
	Writes bool // it may change the site
	// Run answers the question, next to the files. The watch is not nil.
	Run func(ctx context.Context, at *Here, question Q, watch *site.Watch) (A, error)
	// Pack and Unpack give the form in which an answer crosses a connection, and read it; nil: as it is.
	Pack   func(A) any
	Unpack func(read func(form any) error) (A, error)
	// Clean makes an answer of a far end fit to be shown; nil: there is nothing to do.
	Clean func(A)
}

// None is the question or the answer of a call that has none.
type None struct{}

// On makes the call.
func (c *Call[Q, A]) On(ctx context.Context, e Engine, question Q) (A, error) {
	return c.Watched(ctx, e, question, nil)
}

// Watched makes the call and tells how it goes on.
func (c *Call[Q, A]) Watched(ctx context.Context, e Engine, question Q, watch *site.Watch) (answer A, err error) {
	err = e.Do(ctx, c, question, &answer, watch)
	return answer, err
}

// Any is a call of whatever types.
type Any interface {
	// Title gives the call's name.
	Title() string
	// Changes tells whether it may change the site.
	Changes() bool
	// Answer runs the call on a question that crossed a connection, and gives the answer in the form in which it does.
	Answer(ctx context.Context, at *Here, question []byte, watch *site.Watch) (any, error)
	// Take reads an answer that crossed a connection into what the second points to.
	Take(form []byte, answer any) error

	here(ctx context.Context, at *Here, question, answer any, watch *site.Watch) error
}

// Title implements Any.
func (c *Call[Q, A]) Title() string { return c.Name }

// Changes implements Any.
func (c *Call[Q, A]) Changes() bool { return c.Writes }

// Answer implements Any.
func (c *Call[Q, A]) Answer(ctx context.Context, at *Here, question []byte, watch *site.Watch) (any, error) {
	var asked Q
	if err := Decoding.Unmarshal(question, &asked); err != nil {
		return nil, fmt.Errorf("%w: question of %s: %w", ErrProtocol, c.Name, err)
	}
	answer, err := c.Run(ctx, at, asked, watch)
	if err != nil {
		return nil, err
	}
	if c.Pack != nil {
		return c.Pack(answer), nil
	}
	return answer, nil
}

// Take implements Any.
func (c *Call[Q, A]) Take(form []byte, answer any) (err error) {
	to := answer.(*A)
	read := func(form2 any) error { return Decoding.Unmarshal(form, form2) }
	if c.Unpack != nil {
		*to, err = c.Unpack(read)
	} else {
		err = read(to)
	}
	if err != nil {
		return fmt.Errorf("%w: answer to %s: %w", ErrProtocol, c.Name, err)
	}
	if c.Clean != nil {
		c.Clean(*to)
	}
	return nil
}

func (c *Call[Q, A]) here(ctx context.Context, at *Here, question, answer any, watch *site.Watch) (err error) {
	*answer.(*A), err = c.Run(ctx, at, question.(Q), watch)
	return err
}

// Find finds a call by its name; nil: there is none.
func Find(name string) Any {
	for _, call := range table {
		if call.Title() == name {
			return call
		}
	}
	return nil
}

// ErrForgotten tells that an engine does not know what an ID stands for.
var ErrForgotten = errors.New("what was surveyed or compared before is not known any more")
