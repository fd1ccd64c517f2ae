//go:build !linux

package table

func preferLargePages([]HashedRow) {}
