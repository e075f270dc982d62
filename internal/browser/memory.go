package browser

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// pageMemory is how much memory the process of a page may have for data, in bytes: what Chromium sets aside for one before any
// page is there (some 650 MB, measured), and 1 GB for the page. A page that wants more is refused it, or its tab crashes.
const pageMemory = 1700 << 20

var limited = regexp.MustCompile(fmt.Sprintf(`(?m)^Max data size +%d +%d `, pageMemory, pageMemory))

// limitMemory limits the memory of every page that a Chromium has open or will open: pages' processes are forked off its zygotes,
// from which they inherit it.
func (r *running) limitMemory() error {
	var refused []string
	for _, pid := range descendants(r.PID()) {
		cmd, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		if err != nil || !strings.Contains(string(cmd), "--type=zygote") && !strings.Contains(string(cmd), "--type=renderer") {
			continue
		}
		if limits, err := os.ReadFile(fmt.Sprintf("/proc/%d/limits", pid)); err == nil && limited.Match(limits) {
			continue // it inherited it
		}
		err = unix.Prlimit(pid, unix.RLIMIT_DATA, &unix.Rlimit{Cur: pageMemory, Max: pageMemory}, nil)
		switch {
		case errors.Is(err, unix.EPERM):
			refused = append(refused, strconv.Itoa(pid))
		case err != nil && !errors.Is(err, unix.ESRCH): // it may have ended meanwhile
			return fmt.Errorf("limit the memory of pages: %w", err)
		}
	}
	if len(refused) == 0 || !r.how.Own {
		return nil // where the system does not let us, a page has what the unit's own limit leaves it
	}
	// A root that may not do so for others (in a container, say) has it done by the user whose they are.
	args := append([]string{"-c", fmt.Sprintf("for p; do prlimit --pid $p --data=%d || test ! -e /proc/$p || exit 1; done", pageMemory), "limit"}, refused...)
	cmd := exec.Command(filepath.Join(r.home.path, asThem), append([]string{"/bin/sh"}, args...)...) //nolint:gosec // our own
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("limit the memory of pages: %w: %s", err, firstLine(string(out)))
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
