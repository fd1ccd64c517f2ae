package api

import (
	"sync"
	"time"
)

// pacesKnown bounds for how many keys it is counted.
const pacesKnown = 50_000

// pace counts how often something is done within a minute.
type pace struct {
	mutex sync.Mutex
	since time.Time
	count map[string]int
}

// allows reports whether something may be done once more in this minute, of so many times.
func (p *pace) allows(key string, most int) bool {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if now := time.Now(); p.count == nil || now.Sub(p.since) >= time.Minute {
		p.since, p.count = now, map[string]int{}
	}
	if _, known := p.count[key]; !known && len(p.count) >= pacesKnown {
		return false
	}
	p.count[key]++
	return p.count[key] <= most
}
