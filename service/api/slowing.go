package api

import (
	"net/netip"
	"sync"
	"time"
)

const (
	// After freeFailures wrong tokens, an address waits before the next one is looked at: a
	// second, then twice as long each time, up to longestWait.
	freeFailures = 5
	longestWait  = time.Minute
	// What is known of an address is forgotten after so long without another failure.
	failuresForgotten = 15 * time.Minute
	addressesKnown    = 20_000
	// A token that was good lately lets its holder in whatever others at the address do.
	goodFor   = 10 * time.Minute
	goodKnown = 20_000
	// recordEvery is how often the failures of one address are recorded.
	recordEvery = time.Minute
)

// slowing slows those down who try tokens.
type slowing struct {
	mutex  sync.Mutex
	failed map[netip.Prefix]*failures
	good   map[[32]byte]time.Time // hashes of tokens and sessions
	now    func() time.Time       // nil for time.Now
}

type failures struct {
	count      int
	last       time.Time
	until      time.Time // no token is looked at before
	unrecorded int
	recorded   time.Time
}

func (s *slowing) time() time.Time {
	if s.now != nil {
		return s.now()
	}
	return time.Now()
}

// site is what failures are counted by: an address, or the network that one household has.
func site(address string) netip.Prefix {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Prefix{}
	}
	bits := 32
	if ip.Is6() {
		bits = 64
	}
	p, err := ip.WithZone("").Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// wait says how long a caller has to wait before their secret is looked at; 0 for not at all.
func (s *slowing) wait(address string, hash []byte) time.Duration {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	now := s.time()
	if at, ok := s.good[[32]byte(hash)]; ok && now.Sub(at) < goodFor {
		return 0
	}
	if f := s.failed[site(address)]; f != nil && now.Before(f.until) {
		return f.until.Sub(now)
	}
	return 0
}

// succeeded notes a secret that is in force.
func (s *slowing) succeeded(hash []byte) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.good == nil || len(s.good) >= goodKnown {
		s.good = map[[32]byte]time.Time{}
	}
	s.good[[32]byte(hash)] = s.time()
}

// forget takes back that secrets were good lately: one of them was ended.
func (s *slowing) forget() {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.good = nil
}

// fail notes a secret that is not in force, and returns how many failures are to be recorded now; 0 for none.
func (s *slowing) fail(address string) (record int) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	now := s.time()
	if s.failed == nil {
		s.failed = map[netip.Prefix]*failures{}
	}
	if len(s.failed) >= addressesKnown {
		for at, f := range s.failed {
			if now.Sub(f.last) > failuresForgotten || len(s.failed) >= addressesKnown {
				delete(s.failed, at)
			}
		}
	}
	f := s.failed[site(address)]
	if f == nil || now.Sub(f.last) > failuresForgotten {
		f = &failures{}
		s.failed[site(address)] = f
	}
	f.count++
	f.last = now
	if over := f.count - freeFailures; over > 0 {
		f.until = now.Add(min(longestWait, time.Second<<min(over-1, 10)))
	}
	if f.unrecorded++; now.Sub(f.recorded) >= recordEvery {
		record, f.unrecorded, f.recorded = f.unrecorded, 0, now
	}
	return record
}
