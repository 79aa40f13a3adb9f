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

	"tartine/internal/fsys"
)

// The lock is a file that only one can make: it is written under a name of its own and then linked, so that it is never
// there without saying who holds it. (Where the far end cannot link it is made in place; one that was cut short then
// counts as held for the length of a lease.) Its holder renews it while it lives, so a lock that has run out was left
// by one that died. To take such a lock over, a second file is made that is named after the dead lock's token: only
// one can make that one either, and it replaces the lock only if it still holds that token. So of several who find a
// dead lock one gets it, and a lock that somebody got in the meantime is never replaced.
//
// Not promised: that two machines whose clocks differ by more than the lease agree on when a lock has run out.

const (
	lease      = 2 * time.Minute
	renewEvery = lease / 4
)

// Holder is who holds the lock of a site.
type Holder struct {
	Token   string    `json:"token"`
	User    string    `json:"user,omitempty"`
	Host    string    `json:"host,omitempty"`
	Process int       `json:"process"`
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"`
}

// LockedError tells that another deployment is under way.
type LockedError struct{ Holder Holder }

func (e *LockedError) Error() string {
	return fmt.Sprintf("another deployment is under way: %s@%s, process %d, since %s",
		e.Holder.User, e.Holder.Host, e.Holder.Process, e.Holder.Since.Local().Format(time.DateTime))
}

// ErrLockLost tells that somebody else took the lock while it was held.
var ErrLockLost = errors.New("the lock of the site was taken by another deployment")

// lock takes the lock. The context that it returns ends when the lock is lost; release gives it back.
func (s *Site) lock(ctx context.Context, user string) (locked context.Context, release func(), err error) {
	host, _ := os.Hostname()
	me := Holder{Token: rand.Text(), User: user, Host: host, Process: os.Getpid(), Since: time.Now().UTC()}
	if err := s.claim(ctx, &me); err != nil {
		return nil, nil, err
	}
	locked, lose := context.WithCancelCause(ctx)
	var renewing sync.WaitGroup
	stop := make(chan struct{})
	renewing.Go(func() {
		ticker := time.NewTicker(renewEvery)
		defer ticker.Stop()
		for {
			select {
			case <-stop:
				return
			case <-locked.Done():
				return
			case <-ticker.C:
				if err := s.renew(locked, &me); err != nil {
					lose(err)
					return
				}
			}
		}
	})
	release = func() {
		close(stop)
		renewing.Wait()
		lose(nil)
		// Even when the work was cancelled the lock must go.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if holder, err := s.holder(ctx); err == nil && holder.Token == me.Token {
			_ = s.fs.Remove(ctx, s.inRecord("lock")) // else it runs out
		}
	}
	return locked, release, nil
}

// lockWaiting takes the lock, and tries again for a while when somebody else has it.
func (s *Site) lockWaiting(ctx context.Context, user string, wait time.Duration) (context.Context, func(), error) {
	deadline := time.Now().Add(wait)
	for {
		locked, release, err := s.lock(ctx, user)
		var held *LockedError
		if !errors.As(err, &held) || time.Now().After(deadline) {
			return locked, release, err
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(min(askAgain, max(time.Until(deadline), 0))):
		}
	}
}

const askAgain = time.Second

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

func (s *Site) claim(ctx context.Context, me *Holder) error {
	if err := s.putLock(ctx, "lock", me, true); !errors.Is(err, fs.ErrExist) {
		return err
	}
	holder, err := s.holder(ctx)
	if errors.Is(err, fs.ErrNotExist) {
		return s.claim(ctx, me) // it was given back in this moment
	}
	if err != nil {
		return err
	}
	if !holder.dead() {
		return &LockedError{*holder}
	}
	marker := overLock + holder.Token
	if err := s.putLock(ctx, marker, me, true); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return &LockedError{*holder}
		}
		return err
	}
	defer s.fs.Remove(ctx, s.inRecord(marker))
	again, err := s.holder(ctx)
	if errors.Is(err, fs.ErrNotExist) {
		return s.claim(ctx, me)
	}
	if err != nil {
		return err
	}
	if again.Token != holder.Token {
		return &LockedError{*again}
	}
	return s.putLock(ctx, "lock", me, false)
}

// dead tells whether the holder can no longer be at work.
func (h *Holder) dead() bool {
	if time.Now().After(h.Until) {
		return true
	}
	host, err := os.Hostname()
	return err == nil && host == h.Host && h.Process != os.Getpid() && !processLives(h.Process)
}

// putLock writes a lock file. One that replaces another does so in one step.
func (s *Site) putLock(ctx context.Context, name string, me *Holder, fresh bool) error {
	me.Until = time.Now().UTC().Add(lease)
	text, err := json.Marshal(me)
	if err != nil {
		return err
	}
	own := s.inRecord(ownLock + me.Token)
	if _, err := s.fs.Put(ctx, own, bytes.NewReader(text), fsys.Attr{Mode: s.private(0o600)}); err != nil {
		return err
	}
	if !fresh {
		return s.fs.Rename(ctx, own, s.inRecord(name))
	}
	defer s.fs.Remove(context.WithoutCancel(ctx), own)
	err = fsys.ErrUnsupported
	if linker, ok := s.fs.(fsys.Linker); ok {
		err = linker.Link(ctx, own, s.inRecord(name))
	}
	if err == nil || errors.Is(err, fs.ErrExist) || errors.Is(err, fsys.ErrLost) {
		return err
	}
	_, err = s.fs.Put(ctx, s.inRecord(name), bytes.NewReader(text), fsys.Attr{Mode: s.private(0o600), New: true})
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
		if strings.HasPrefix(info.Name, "lock.") && now.ModTime.Sub(info.ModTime) > 2*lease {
			left = append(left, info.Name)
		}
	}
	return s.discard(ctx, left)
}

func (s *Site) renew(ctx context.Context, me *Holder) error {
	holder, err := s.holder(ctx)
	if err != nil {
		return err
	}
	if holder.Token != me.Token {
		return ErrLockLost
	}
	return s.putLock(ctx, "lock", me, false)
}

// holder reads the lock. One that is being written at this moment counts as held from now.
func (s *Site) holder(ctx context.Context) (*Holder, error) {
	text, err := s.read(ctx, "lock")
	if err != nil {
		return nil, err
	}
	var h Holder
	if err := json.Unmarshal(text, &h); err != nil || h.Token == "" {
		info, err := s.fs.Lstat(ctx, s.inRecord("lock"))
		if err != nil {
			return nil, err
		}
		h = Holder{Token: "unreadable", Since: info.ModTime, Until: info.ModTime.Add(lease)}
	}
	return &h, nil
}
