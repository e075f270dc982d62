package browser

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// pageMemory is how much memory the process of a page may have for data, in bytes: what Chromium sets aside for one before any
// page is there (some 650 MB, measured), and 1 GB for the page. A page that wants more is refused it, or its tab crashes.
const pageMemory = 1700 << 20

// limitMemory limits the memory of every page that a Chromium has open or will open: pages' processes are forked off its zygotes,
// from which they inherit it.
func limitMemory(browser int) error {
	for _, pid := range descendants(browser) {
		cmd, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if err != nil || !strings.Contains(string(cmd), "--type=zygote") && !strings.Contains(string(cmd), "--type=renderer") {
			continue
		}
		err = unix.Prlimit(pid, unix.RLIMIT_DATA, &unix.Rlimit{Cur: pageMemory, Max: pageMemory}, nil)
		// It may have ended meanwhile; and where the system does not let us, a page has what the unit's own limit leaves it.
		if err != nil && !errors.Is(err, unix.ESRCH) && !errors.Is(err, unix.EPERM) {
			return fmt.Errorf("limit the memory of pages: %w", err)
		}
	}
	return nil
}

// descendants are a process's children, theirs, and so on.
func descendants(of int) []int {
	children := map[int][]int{}
	folders, _ := filepath.Glob("/proc/[0-9]*")
	for _, f := range folders {
		raw, err := os.ReadFile(filepath.Join(f, "stat"))
		if err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(raw), ") ")
		fields := strings.Fields(rest)
		if len(fields) < 2 {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(f))
		parent, _ := strconv.Atoi(fields[1])
		children[parent] = append(children[parent], pid)
	}
	out := slices.Clone(children[of])
	for i := 0; i < len(out); i++ {
		out = append(out, children[out[i]]...)
	}
	return out
}
