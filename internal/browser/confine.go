package browser

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/go-rod/rod/lib/launcher"
)

// users are whom Chromium may run as, the first that there is, when we are root. Debian has "nobody"; our package makes the other.
var users = []string{"tidemarker-browser", "nobody"}

// Confinement is what holds a page that broke out of its renderer: Chromium's sandbox, and a user who may nothing else.
type Confinement struct {
	User    string // whom Chromium runs as
	Own     bool   // that is somebody else than we are
	Sandbox bool
	Why     string // something of it could not be had; "" when all could
}

// String says it for a log.
func (c Confinement) String() string {
	box := map[bool]string{true: "with its sandbox", false: "without its sandbox"}[c.Sandbox]
	if c.Why != "" {
		box += " (" + c.Why + ")"
	}
	return fmt.Sprintf("as %s, %s", c.User, box)
}

// running is a Chromium that was started, and where it lives.
type running struct {
	*launcher.Launcher
	url  string
	home *home
	how  Confinement
}

// end ends it and removes what it wrote.
func (r *running) end() {
	r.Kill()
	r.Cleanup()
	r.home.remove()
}

// ways are how a Chromium may be started by who we are, the most confined first.
func ways() []Confinement {
	if os.Geteuid() != 0 {
		we := strconv.Itoa(os.Geteuid())
		if u, err := user.Current(); err == nil {
			we = u.Username
		}
		return []Confinement{{User: we, Sandbox: true}, {User: we}}
	}
	last := Confinement{User: "root", Why: "root has none, and setpriv or another user is missing"}
	if _, err := exec.LookPath("setpriv"); err != nil {
		return []Confinement{last}
	}
	for _, name := range users {
		if _, err := user.Lookup(name); err == nil {
			return []Confinement{{User: name, Own: true, Sandbox: true}, {User: name, Own: true}, last}
		}
	}
	return []Confinement{last}
}

// start starts Chromium as confined as the system allows. Each way is tried once; what kept a better one from working is told.
func start(binary string, among []Confinement) (*running, error) {
	var failed []error
	for _, how := range among {
		if len(failed) > 0 {
			how.Why = firstLine(errors.Join(failed...).Error())
		}
		r, err := startAs(binary, how)
		if err == nil {
			return r, nil
		}
		failed = append(failed, fmt.Errorf("%s: %w", how, err))
	}
	return nil, errors.Join(failed...)
}

func startAs(binary string, how Confinement) (*running, error) {
	sweep(os.TempDir())
	h, err := newHome(os.TempDir())
	if err != nil {
		return nil, err
	}
	r := &running{how: how, home: h}
	profile := filepath.Join(h.path, "profile")
	if err := os.Mkdir(profile, 0o700); err != nil {
		h.remove()
		return nil, err
	}
	run := binary
	if how.Own {
		if run, err = asUser(h.path, profile, binary, how.User); err != nil {
			h.remove()
			return nil, err
		}
	}
	r.Launcher = Launcher(binary).Bin(run).NoSandbox(!how.Sandbox).UserDataDir(profile).Env(environment(profile)...)
	if r.url, err = r.Launch(); err != nil {
		h.remove()
		return nil, errors.New(lastLines(err.Error()))
	}
	return r, nil
}

// asThem is the program that runs another one as the user whose Chromium is.
const asThem = "as-them"

// asUser writes the program that starts Chromium as another user, and gives that one the profile.
func asUser(home, profile, binary, name string) (program string, err error) {
	u, err := user.Lookup(name)
	if err != nil {
		return "", err
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return "", err
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return "", err
	}
	if err := errors.Join(os.Chmod(home, 0o711), os.Chown(profile, uid, gid)); err != nil { //nolint:gosec // others pass through it to the profile
		return "", err
	}
	them := filepath.Join(home, asThem)
	text := fmt.Sprintf("#!/bin/sh\nexec setpriv --reuid=%d --regid=%d --clear-groups --no-new-privs -- \"$@\"\n", uid, gid)
	program = filepath.Join(home, "start")
	return program, errors.Join(os.WriteFile(them, []byte(text), 0o700), //nolint:gosec // it is run
		os.WriteFile(program, fmt.Appendf(nil, "#!/bin/sh\nexec %s %s \"$@\"\n", quoted(them), quoted(binary)), 0o700)) //nolint:gosec // it is run
}

// quoted is a word that a shell takes as it is.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// passedOn are the variables that Chromium gets of ours; keys, tokens and the database's address are none of its business.
var passedOn = []string{"PATH", "LANG", "LANGUAGE", "LC_ALL", "LC_CTYPE", "TZ", "TMPDIR", "FONTCONFIG_FILE", "FONTCONFIG_PATH", "LD_LIBRARY_PATH"}

func environment(home string) []string {
	out := []string{"HOME=" + home}
	for _, v := range os.Environ() {
		if name, _, _ := strings.Cut(v, "="); slices.Contains(passedOn, name) {
			out = append(out, v)
		}
	}
	return out
}

// lastLines is the end of what a Chromium that did not start said.
func lastLines(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-3):], " ")
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return clip(s)
}
