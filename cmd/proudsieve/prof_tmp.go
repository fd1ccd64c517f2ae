package main

import (
	"os"
	"runtime"
	"runtime/pprof"
	"time"
)

func init() {
	out := os.Getenv("HEAPPROF")
	if out == "" {
		return
	}
	go func() {
		max := uint64(0)
		for {
			time.Sleep(300 * time.Millisecond)
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			if m.HeapInuse > max*11/10 {
				max = m.HeapInuse
				f, _ := os.Create(out)
				pprof.Lookup("heap").WriteTo(f, 0)
				f.Close()
			}
		}
	}()
}
