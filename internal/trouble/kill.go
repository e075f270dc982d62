//go:build trouble

package trouble

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
)

var (
	point, which = armed()
	passed       atomic.Int64
)

func armed() (string, int64) {
	name, n, _ := strings.Cut(os.Getenv(Variable), "#")
	nth, err := strconv.ParseInt(n, 10, 64)
	if err != nil {
		nth = 1
	}
	return name, nth
}

// At kills this process when it is the point for that, as a failing machine would: nothing is ended, closed or said to anybody.
func At(here string) {
	if here != point || passed.Add(1) != which {
		return
	}
	if f, err := os.OpenFile(os.Getenv(LogVariable), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600); err == nil {
		_, _ = fmt.Fprintf(f, "%d %s\n", os.Getpid(), here)
		_ = f.Close()
	}
	_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
	select {}
}
