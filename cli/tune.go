package cli

import (
	"os"
	"runtime"
	"runtime/debug"
)

const (
	// garbageShare lets the heap grow to three times what is in use before it is swept,
	// since what an audit leaves behind is little and short-lived.
	garbageShare = 200
	// siftMemory is where sweeping becomes eager, in a process that audits one file and ends.
	siftMemory = 400 << 20
	// wideMemory is that for a file of more columns than wideFile, each of which needs some.
	wideMemory = 700 << 20
	wideFile   = 500
)

// tune sets how eagerly memory is swept, unless the environment says so.
func tune(limit int64) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbageShare)
	}
	if limit > 0 && os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(limit)
	}
}

// makeRoomForRequests lets more threads run than there are processors, so that a request need
// not wait for the turn of one that computes for a job or a question.
func makeRoomForRequests() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(2 * runtime.NumCPU())
	}
}
