package browser

import (
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

// limitMemory limits the memory of every page that a Chromium will open: pages' processes are forked off its zygotes, from which
// they inherit it. It says how many zygotes there were.
func limitMemory(browser int) (int, error) {
	n := 0
	for _, pid := range descendants(browser) {
		cmd, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if err != nil || !slices.Contains(strings.Split(string(cmd), "\x00"), "--type=zygote") {
			continue
		}
		if err := unix.Prlimit(pid, unix.RLIMIT_DATA, &unix.Rlimit{Cur: pageMemory, Max: pageMemory}, nil); err != nil {
			return n, fmt.Errorf("limit the memory of pages: %w", err)
		}
		n++
	}
	return n, nil
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
