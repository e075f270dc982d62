package browser

import (
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

const (
	homePrefix = "tidemarker-browser-"
	homeLock   = "lock"
	// unlocked is for how long a home without a lock may be one that somebody is just making.
	unlocked = time.Hour
)

// home is the folder of one Chromium. Whoever runs it holds its lock: a home whose lock is free was left by a process that was killed.
type home struct {
	path string
	lock *os.File
}

func newHome(in string) (*home, error) {
	path, err := os.MkdirTemp(in, homePrefix)
	if err != nil {
		return nil, err
	}
	h := &home{path: path}
	// The lock is held before anybody can see it.
	if h.lock, err = os.CreateTemp(path, "making-"); err == nil {
		err = unix.Flock(int(h.lock.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	}
	if err == nil {
		err = os.Rename(h.lock.Name(), filepath.Join(path, homeLock))
	}
	if err != nil {
		h.remove()
		return nil, err
	}
	return h, nil
}

// remove removes the home with all that is in it.
func (h *home) remove() {
	_ = os.RemoveAll(h.path)
	if h.lock != nil {
		_ = h.lock.Close()
	}
}

// sweep removes homes that processes left behind which were killed.
func sweep(in string) {
	left, _ := filepath.Glob(filepath.Join(in, homePrefix+"*"))
	for _, path := range left {
		lock, err := os.Open(filepath.Join(path, homeLock))
		if os.IsNotExist(err) {
			if about, err := os.Stat(path); err == nil && time.Since(about.ModTime()) > unlocked {
				_ = os.RemoveAll(path)
			}
			continue
		}
		if err != nil {
			continue // somebody else's
		}
		if unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			_ = os.RemoveAll(path)
		}
		_ = lock.Close()
	}
}
