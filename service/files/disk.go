package files

import (
	"errors"
	"syscall"
)

// FullSays is what whoever asked for something is told where the disk was full.
const FullSays = "The disk of the service is full; nothing was kept. Free some space and try again."

// Full reports whether something failed because no more may be written to a disk.
func Full(err error) bool { return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) }

// Disk is the room of the file system that a store is on.
type Disk struct {
	Free  int64 `json:"free" doc:"Bytes that may still be written"`
	Total int64 `json:"total"`
}

// nearlyFull is the share of a disk, one in so many, that is kept an eye on.
const nearlyFull = 10

// NearlyFull reports whether less than a tenth is free.
func (d Disk) NearlyFull() bool { return d.Free < d.Total/nearlyFull }

// Disk implements Store.
func (d *Directory) Disk() (Disk, error) {
	var s syscall.Statfs_t
	if err := syscall.Statfs(d.root, &s); err != nil {
		return Disk{}, err
	}
	return Disk{Free: int64(s.Bavail) * int64(s.Bsize), Total: int64(s.Blocks) * int64(s.Bsize)}, nil
}
