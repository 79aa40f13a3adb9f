package manifest

import "sync"

// aheadAtOnce is how many entries a walk that goes ahead hands over at a time, and mostAhead how often it may before they are visited.
const (
	aheadAtOnce = 512
	mostAhead   = 4
)

// Ahead gives a walk that goes on, on another processor, while what it has come to is visited. It ends with the visits.
func Ahead(each Walk) Walk {
	return func(visit func(e *Entry) bool) {
		var (
			walking      sync.WaitGroup
			ready, spare = make(chan []Entry, mostAhead), make(chan []Entry, mostAhead)
			stop         = make(chan struct{})
		)
		defer walking.Wait()
		defer close(stop)
		walking.Go(func() {
			defer close(ready)
			some, more := make([]Entry, 0, aheadAtOnce), true
			hand := func() bool {
				select {
				case ready <- some:
				case <-stop:
					return false
				}
				select {
				case some = <-spare:
					some = some[:0]
				default:
					some = make([]Entry, 0, aheadAtOnce)
				}
				return true
			}
			each(func(e *Entry) bool {
				if some = append(some, *e); len(some) == aheadAtOnce {
					more = hand()
				}
				return more
			})
			if more && len(some) > 0 {
				hand()
			}
		})
		for some := range ready {
			for i := range some {
				if !visit(&some[i]) {
					return
				}
			}
			select {
			case spare <- some:
			default:
			}
		}
	}
}
