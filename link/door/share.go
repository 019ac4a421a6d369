package door

import (
	"os"
	"syscall"
)

// Bounds of what Divide gives away.
const (
	mostWeb     = 1024 // connections of browsers and scripts
	mostBoards  = 4096
	mostOfOne   = 128
	leastOfOne  = 4
	spareAtMost = 512
)

// Divide shares out the descriptors of a process that has used some of its most already: a part stays for files and for
// what the hub itself connects to; the rest goes to browsers and scripts, and to boards, so that neither can take what
// is the other's. An address that was never met has a small part of it, and a quarter of what browsers have is for
// those that were.
func Divide(most, used int) (web, boards Limits) {
	free := max(0, most-used)
	free -= min(free/4, spareAtMost)
	all := min(free*2/5, mostWeb)
	web = Limits{All: all, Kept: all / 4, Each: min(max(all/4, leastOfOne), mostOfOne)}
	all = min(free*3/5, mostBoards)
	boards = Limits{All: all, Waiting: min(max(all/4, leastOfOne), mostOfOne)}
	return web, boards
}

// Descriptors is how many descriptors this process may have, and has.
func Descriptors() (most, used int) {
	var l syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l) != nil {
		l.Cur = 1024
	}
	most = int(min(l.Cur, 1<<20))
	if open, err := os.ReadDir("/proc/self/fd"); err == nil {
		return most, len(open)
	}
	return most, min(most/2, 64)
}
