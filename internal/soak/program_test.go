package soak_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/trouble"
)

// built is the product with the points at which it can be killed.
var built = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "tidemarker-soak-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "tidemarker")
	out, err := exec.Command("go", "build", "-tags", "trouble", "-o", bin, "tidemarker/cmd/tidemarker").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return bin, nil
})

// phases are those of a run; each is a point.
var phases = []string{"reading", "applying", "purging", "warming", "looking", "control", "probing", "returning", "searching", "measuring", "putting back", "signing in"}

// points are where a worker is killed, and those of them that a server passes, too.
func points() (worker, server []string) {
	worker = trouble.Points()
	for _, p := range phases {
		worker = append(worker, trouble.Phase(p))
	}
	return worker, []string{trouble.Committing, trouble.Committed, trouble.Intending, trouble.Intended, trouble.ReadBack}
}

// program is one of the processes, which is started again whenever it has died, as a system's supervisor does.
type program struct {
	name   string
	args   []string
	line   *line
	folder string
	env    []string
	points []string
	random *rand.Rand

	mu      sync.Mutex
	cmd     *exec.Cmd
	died    chan struct{} // closed when it has
	armed   string
	since   time.Time
	stopped bool // its clock stands still
}

// start starts the process; point is where it kills itself, "" for nowhere.
func (p *program) start(t *testing.T, point string) {
	t.Helper()
	bin, err := built()
	require.NoError(t, err)
	log, err := os.OpenFile(filepath.Join(p.folder, p.name+".log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer log.Close()
	cmd := exec.Command(bin, p.args...)
	cmd.Env = append(os.Environ(), p.env...)
	cmd.Env = append(cmd.Env, trouble.Variable+"="+point, trouble.LogVariable+"="+filepath.Join(p.folder, "points"))
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	died := make(chan struct{})
	p.mu.Lock()
	p.cmd, p.died, p.armed, p.since, p.stopped = cmd, died, point, time.Now(), false
	p.mu.Unlock()
	go func() { _ = cmd.Wait(); close(died) }()
}

// arm chooses the point at which the process is to kill itself next.
func (p *program) arm() string {
	return fmt.Sprintf("%s#%d", p.points[p.random.IntN(len(p.points))], 1+p.random.IntN(3))
}

// lives is for how long the process may live: long enough for it to come to its point two times of three.
func (p *program) lives() time.Duration {
	if p.random.IntN(3) == 0 {
		return time.Duration(1500+p.random.IntN(6000)) * time.Millisecond
	}
	return time.Duration(8000+p.random.IntN(12000)) * time.Millisecond
}

// kill ends the process at once, wherever it is.
func (p *program) kill() {
	p.mu.Lock()
	cmd, died := p.cmd, p.died
	p.mu.Unlock()
	_ = cmd.Process.Kill()
	<-died
}

// still stops the clock of the process, or lets it go on.
func (p *program) still(stop bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stopped = stop
	signal := syscall.SIGCONT
	if stop {
		signal = syscall.SIGSTOP
	}
	_ = p.cmd.Process.Signal(signal)
}

// gone tells how a process that has died came to that: at its point, or by itself, which is a fault.
func (p *program) gone() (point string, byItself bool, code int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	status, _ := p.cmd.ProcessState.Sys().(syscall.WaitStatus)
	point, _, _ = strings.Cut(p.armed, "#")
	return point, !status.Signaled(), p.cmd.ProcessState.ExitCode()
}

// leftOver are processes that were started by one of ours and are there although it is not: each of ours has its number in
// its environment, which its own processes inherit.
func leftOver(mark string, alive map[int]bool) []string {
	var out []string
	folders, _ := filepath.Glob("/proc/[0-9]*")
	for _, f := range folders {
		env, err := os.ReadFile(filepath.Join(f, "environ"))
		if err != nil || !strings.Contains(string(env), mark) {
			continue
		}
		var pid int
		_, _ = fmt.Sscan(filepath.Base(f), &pid)
		if !alive[pid] && !descends(pid, alive) {
			name, _ := os.ReadFile(filepath.Join(f, "comm"))
			out = append(out, fmt.Sprintf("%d %s", pid, strings.TrimSpace(string(name))))
		}
	}
	return out
}

// descends tells whether a process has one of ours among its ancestors.
func descends(pid int, alive map[int]bool) bool {
	for pid > 1 {
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return true // it has just ended
		}
		_, rest, _ := strings.Cut(string(raw), ") ")
		var state string
		_, _ = fmt.Sscan(rest, &state, &pid)
		if state == "Z" || alive[pid] {
			return true
		}
	}
	return false
}
