package site

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"

	"tartine/internal/farend"
	"tartine/internal/fsys"
)

// The lock is a file that only one can make: it is written under a name of its own and then linked, so that it is never
// there without saying who holds it. (Where the far end cannot link it is made in place; one that was cut short names
// nobody, and is taken over as one that is not renewed.) Its holder writes it anew while it lives.
//
// A lock that has not changed for the length of a lease was left by one that died. No clocks of two machines are
// compared for that: either whoever wants the lock has seen it unchanged for so long, by its own clock; or the place
// itself dated the lock that much earlier than a file that was written there just now. A holder on the same system, in
// the same world of processes, is also known to be dead when its process is gone.
//
// To take a dead lock over, a second file, the marker, is made that is named after the dead lock's token: only one can
// make that one, and it replaces the lock only if it still is what was found dead. The marker stays until the lock is
// given back. So of several who find a dead lock one gets it, and a lock that somebody got in the meantime is never
// replaced.
//
// A holder may have been suspended for longer than its lease, and be woken in the middle of its work. So it looks
// whether the lock is still its own before it writes the journal, before each phase, before the record is written, and
// before any step when it has not looked for a second. One that is late with renewing writes the lock first, then looks
// for a marker, then reads the lock: whoever takes it over makes the marker first and then reads the lock, so at least
// one of the two sees the other. A holder that lost its lock stops, and changes nothing more.
//
// Not promised: that a single operation which was under way when its process was suspended is not done when it is
// woken.

// DefaultLease is how long a lock counts that is not renewed, unless told otherwise.
const DefaultLease = 2 * time.Minute

// lookEvery is after how long a holder looks again whether the lock is its own, before it does the next step.
const lookEvery = time.Second

// Holder is who holds the lock of a site.
type Holder struct {
	Token   string    `json:"token"`
	User    string    `json:"user,omitempty"`
	Host    string    `json:"host,omitempty"`
	Process int       `json:"process"`
	Boot    string    `json:"boot,omitempty"`  // which start of the system it runs on
	Space   string    `json:"space,omitempty"` // in which world of processes its number counts (PID namespace)
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"` // by its own clock; it is to be renewed before
}

// LockedError tells that another deployment is under way.
type LockedError struct{ Holder Holder }

func (e *LockedError) Error() string { return "another deployment is under way: " + e.Holder.who() }

func (h *Holder) who() string {
	if h.Token == unreadable {
		return "nobody knows by whom, since its lock cannot be read"
	}
	return fmt.Sprintf("%s@%s, process %d, since %s", h.User, h.Host, h.Process, h.Since.Local().Format(time.DateTime))
}

// LockLostError tells that the lock is no longer held: somebody took it, removed it, or it could not be renewed in
// time. What was under way has stopped.
type LockLostError struct {
	Holder *Holder // who has it now; nil: nobody
	Err    error   // why it could not be renewed; may be nil
}

func (e *LockLostError) Error() string {
	switch {
	case e.Holder != nil:
		return "the lock of the site was taken over while this deployment was held up: by " + e.Holder.who()
	case e.Err != nil:
		return fmt.Sprintf("the lock of the site could not be renewed in time: %v", e.Err)
	}
	return "the lock of the site was removed while this deployment was under way"
}

func (e *LockLostError) Unwrap() error { return e.Err }

// lostLock gives the loss of the lock in the place of what came of it.
func lostLock(ctx context.Context, err error) error {
	var lost *LockLostError
	if err != nil && errors.As(context.Cause(ctx), &lost) {
		return lost
	}
	return err
}

// hold is a lock that is held.
type hold struct {
	site   *Site
	me     Holder
	marker string // of a lock that was taken over; else empty

	alive context.Context // ends when the lock is lost, or given back

	mu      sync.Mutex
	renewed time.Time
	looked  time.Time
	lost    error
}

// within gives a context that ends when the lock is lost, too, until end is called.
func (h *hold) within(ctx context.Context) (locked context.Context, end func()) {
	locked, cancel := context.WithCancelCause(ctx)
	stop := context.AfterFunc(h.alive, func() { cancel(context.Cause(h.alive)) })
	return locked, func() {
		stop()
		cancel(nil)
	}
}

// elapsed gives how long ago something was. A machine that sleeps stops one of its clocks, and one may be set; the
// longer time counts.
func elapsed(since time.Time) time.Duration {
	return max(time.Since(since), time.Now().Round(0).Sub(since.Round(0)))
}

// sure fails when the lock is no longer ours. It looks when it did not do so a moment ago, or when it must look anew.
func (s *Site) sure(ctx context.Context, anew bool) error {
	if s.locked == nil {
		return nil
	}
	h := s.locked
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.lost != nil || !anew && elapsed(h.looked) < lookEvery {
		return h.lost
	}
	return h.look(ctx, elapsed(h.renewed) > s.lease/2)
}

// look finds out whether the lock is still ours, and renews it first when it is time.
func (h *hold) look(ctx context.Context, renew bool) error {
	now := time.Now()
	if renew {
		switch holder, err := h.site.holder(ctx); {
		case errors.Is(err, fs.ErrNotExist):
			return h.lose(nil, nil) // somebody removed it: it is not made again
		case err == nil && holder.Token != h.me.Token:
			return h.lose(holder, nil)
		}
		if err := h.site.putLock(ctx, &h.me); err != nil {
			return err
		}
		if _, err := h.site.fs.Lstat(ctx, h.site.inRecord(overLock+h.me.Token)); err == nil {
			return h.lose(nil, nil) // it is being taken over
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	holder, err := h.site.holder(ctx)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return h.lose(nil, nil)
	case err != nil:
		return err
	case holder.Token != h.me.Token:
		return h.lose(holder, nil)
	}
	h.looked = now
	if renew {
		h.renewed = now
	}
	return nil
}

func (h *hold) lose(holder *Holder, err error) error {
	h.lost = &LockLostError{holder, err}
	return h.lost
}

// keep renews the lock until stop is closed. One renewal that fails is tried again until the lease is over.
func (h *hold) keep(ctx context.Context, stop <-chan struct{}, lose func(error)) {
	pause := h.site.lease / 4
	for {
		select {
		case <-stop:
			return
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		h.mu.Lock()
		err := h.look(ctx, true)
		pause = h.site.lease / 4
		if err != nil && h.lost == nil {
			if pause = h.site.lease / 24; elapsed(h.renewed) > h.site.lease {
				err = h.lose(nil, err)
			}
		}
		lost := h.lost
		h.mu.Unlock()
		if lost != nil {
			lose(err)
			return
		}
	}
}

// lock takes the lock. The context that it returns ends when the lock is lost; release gives it back.
func (s *Site) lock(ctx context.Context, user string) (locked context.Context, release func(), err error) {
	h, unlock, err := s.lockSeen(ctx, user, &sighting{})
	if err != nil {
		return nil, nil, err
	}
	locked, end := h.within(ctx)
	return locked, func() {
		end()
		unlock()
	}, nil
}

// lockSeen takes the lock, which is renewed until it is released, whatever becomes of the context.
func (s *Site) lockSeen(ctx context.Context, user string, seen *sighting) (h *hold, release func(), err error) {
	host, _ := os.Hostname()
	boot, space := world()
	h = &hold{site: s, me: Holder{Token: rand.Text(), User: user, Host: host, Process: os.Getpid(), Boot: boot,
		Space: space, Since: time.Now().UTC()}}
	h.renewed = time.Now()
	if err := s.claim(ctx, h, seen); err != nil {
		return nil, nil, err
	}
	h.looked = h.renewed
	s.locked = h
	alive, lose := context.WithCancelCause(context.WithoutCancel(ctx))
	h.alive = alive
	var renewing sync.WaitGroup
	stop := make(chan struct{})
	renewing.Go(func() { h.keep(alive, stop, lose) })
	release = func() {
		close(stop)
		renewing.Wait()
		lose(nil)
		s.locked = nil
		if h.lost != nil {
			return // it is another's, or will be
		}
		// Even when the work was cancelled the lock must go.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if holder, err := s.holder(ctx); err == nil && holder.Token == h.me.Token {
			_ = s.fs.Remove(ctx, s.inRecord("lock")) // else it is taken over in time
		}
		if h.marker != "" {
			_ = s.fs.Remove(ctx, s.inRecord(h.marker)) // likewise
		}
	}
	return h, release, nil
}

// lockWaiting takes the lock, and tries again for a while when somebody else has it.
func (s *Site) lockWaiting(ctx context.Context, user string, wait time.Duration) (*hold, func(), error) {
	deadline, seen := time.Now().Add(max(wait, s.lease/leastWait)), &sighting{}
	for {
		h, release, err := s.lockSeen(ctx, user, seen)
		var held *LockedError
		if !errors.As(err, &held) || time.Now().After(deadline) {
			return h, release, err
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(min(askAgain, max(time.Until(deadline), 0))):
		}
	}
}

const askAgain = time.Second

// leastWait is for which part of a lease a lock is waited for in any case (three seconds): an agent whose connection
// was lost ends the step that it is at.
const leastWait = 40

// Locked tells who holds the lock, or nil.
func (s *Site) Locked(ctx context.Context) (*Holder, error) {
	if s.record == "" {
		return nil, nil
	}
	holder, err := s.holder(ctx)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return holder, err
}

// Unlock removes the lock of a holder, if it is still the one who has it.
func (s *Site) Unlock(ctx context.Context, holder *Holder) error {
	standing, err := s.holder(ctx)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if standing.Token != holder.Token {
		return &LockedError{*standing}
	}
	// There is a marker when a taking over was cut short.
	return s.discard(ctx, []string{"lock", overLock + holder.Token})
}

// sighting is what was seen of a lock, and when first.
type sighting struct {
	text []byte
	at   time.Time
}

// claim makes the lock ours. The file under our own name, from which the lock is made, also tells what time it is
// there.
func (s *Site) claim(ctx context.Context, h *hold, seen *sighting) error {
	own := ownLock + h.me.Token
	if err := s.putOwn(ctx, &h.me); err != nil {
		return err
	}
	defer func() { _ = s.fs.Remove(context.WithoutCancel(ctx), s.inRecord(own)) }() // whoever locks next sweeps it
	for {
		if err := s.linkLock(ctx, own, "lock", &h.me); !errors.Is(err, fs.ErrExist) {
			return err
		}
		text, err := s.read(ctx, "lock", mostShort)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was given back in this moment
		}
		if err != nil {
			return err
		}
		holder := parseHolder(text)
		if seen.at.IsZero() || !bytes.Equal(seen.text, text) { // the first may be empty: it is being written
			*seen = sighting{text, time.Now()}
		}
		dead := holder.diedHere() || elapsed(seen.at) > s.lease
		if !dead {
			if dead, err = s.outlived(ctx, "lock", own); err != nil {
				return err
			}
		}
		if !dead {
			return &LockedError{*holder}
		}
		taken, err := s.takeOver(ctx, h, own, text, holder)
		if taken || err != nil {
			return err
		}
	}
}

// takeOver replaces a lock that is dead. It gives false where that lock has changed meanwhile.
func (s *Site) takeOver(ctx context.Context, h *hold, own string, dead []byte, holder *Holder) (bool, error) {
	marker := overLock + holder.Token
	if err := s.linkLock(ctx, own, marker, &h.me); err != nil {
		if !errors.Is(err, fs.ErrExist) {
			return false, err
		}
		// Somebody else is at it, or died at it.
		text, err := s.read(ctx, marker, mostShort)
		if err != nil {
			return false, ignoreMissing(err)
		}
		died := parseHolder(text).diedHere()
		if !died {
			if died, err = s.outlived(ctx, marker, own); err != nil {
				return false, err
			}
		}
		if died {
			return false, s.discard(ctx, []string{marker})
		}
		return false, &LockedError{*holder}
	}
	h.marker = marker
	again, err := s.read(ctx, "lock", mostShort)
	if err == nil && bytes.Equal(again, dead) {
		if err = s.fs.Rename(ctx, s.inRecord(own), s.inRecord("lock")); err == nil {
			var standing *Holder
			if standing, err = s.holder(ctx); err == nil && standing.Token == h.me.Token {
				return true, nil
			}
			if err == nil {
				err = &LockedError{*standing}
			}
		}
	}
	h.marker = ""
	if failed := s.discard(ctx, []string{marker}); failed != nil {
		return false, failed
	}
	return false, ignoreMissing(err)
}

// outlived tells whether the place dated a file of the record by more than a lease earlier than one that was written
// just now.
func (s *Site) outlived(ctx context.Context, name, now string) (bool, error) {
	there, err := s.fs.Lstat(ctx, s.inRecord(name))
	if err != nil {
		return false, ignoreMissing(err)
	}
	fresh, err := s.fs.Lstat(ctx, s.inRecord(now))
	if err != nil || there.ModTime.IsZero() || fresh.ModTime.IsZero() {
		return false, err
	}
	return fresh.ModTime.Sub(there.ModTime) > s.lease+s.Abilities().TimeStep, nil
}

// diedHere tells whether the holder is known to be dead because its process is gone: a process of the same start of the
// same system, in the same world of processes.
func (h *Holder) diedHere() bool {
	host, err := os.Hostname()
	boot, space := world()
	return err == nil && boot != "" && host == h.Host && boot == h.Boot && space == h.Space && h.Process != os.Getpid() && !ProcessLives(h.Process)
}

// putOwn writes the file from which a lock is made.
func (s *Site) putOwn(ctx context.Context, me *Holder) error {
	text, err := s.holderText(me)
	if err == nil {
		_, err = s.fs.Put(ctx, s.inRecord(ownLock+me.Token), bytes.NewReader(text),
			fsys.Attributes{Mode: s.private(0o600)})
	}
	return err
}

func (s *Site) holderText(me *Holder) ([]byte, error) {
	me.Until = time.Now().UTC().Add(s.lease)
	return json.Marshal(me)
}

// putLock writes the lock anew, in one step.
func (s *Site) putLock(ctx context.Context, me *Holder) error {
	if err := s.putOwn(ctx, me); err != nil {
		return err
	}
	return s.fs.Rename(ctx, s.inRecord(ownLock+me.Token), s.inRecord("lock"))
}

// linkLock makes a lock file that must not be there yet.
func (s *Site) linkLock(ctx context.Context, own, name string, me *Holder) error {
	err := error(farend.ErrUnsupported)
	if linker, ok := s.fs.(fsys.Linker); ok {
		err = linker.Link(ctx, s.inRecord(own), s.inRecord(name))
	}
	if err == nil || errors.Is(err, fs.ErrExist) || errors.Is(err, farend.ErrLost) {
		return err
	}
	text, err := s.holderText(me)
	if err == nil {
		_, err = s.fs.Create(ctx, s.inRecord(name), bytes.NewReader(text), fsys.Attributes{Mode: s.private(0o600)})
	}
	if err != nil && !errors.Is(err, fs.ErrExist) && !errors.Is(err, farend.ErrLost) {
		_ = s.fs.Remove(context.WithoutCancel(ctx), s.inRecord(name)) // it is ours, and there may be a part of it
	}
	return err
}

// overLock begins the name of the marker of who takes a lock over; the token of that lock ends it.
const overLock = "lock.over."

// ownLock begins the name under which a lock is written before it takes its place.
const ownLock = "lock.by."

// sweepLocks removes what runs that died left of their locks. It is called by the holder, whose own lock tells what
// the time is at the far end.
func (s *Site) sweepLocks(ctx context.Context) error {
	now, err := s.fs.Lstat(ctx, s.inRecord("lock"))
	if err != nil {
		return err
	}
	list, err := s.fs.List(ctx, s.record)
	if err != nil {
		return err
	}
	var left []string
	for _, info := range list {
		if strings.HasPrefix(info.Name, "lock.") && now.ModTime.Sub(info.ModTime) > 2*s.lease {
			left = append(left, info.Name)
		}
	}
	return s.discard(ctx, left)
}

// holder reads the lock.
func (s *Site) holder(ctx context.Context) (*Holder, error) {
	text, err := s.read(ctx, "lock", mostShort)
	if err != nil {
		return nil, err
	}
	return parseHolder(text), nil
}

// isToken tells whether a token is one: it becomes part of a file's name.
func isToken(token string) bool {
	return token != "" && len(token) <= 64 && strings.Trim(token,
		"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789") == ""
}

// parseHolder reads who holds a lock. One that is being written at this moment, or that nobody can read, has a holder
// without a name.
func parseHolder(text []byte) *Holder {
	h := &Holder{}
	if err := json.Unmarshal(text, h); err != nil || !isToken(h.Token) {
		return &Holder{Token: unreadable}
	}
	return h
}

// unreadable is the token of a lock that says nothing.
const unreadable = "unreadable"
