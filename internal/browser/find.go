package browser

import (
	"errors"
	"os"
	"os/exec"
	"strings"

	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/launcher/flags"
)

// shell is Chromium without windows, tabs and what else a person needs around a page. It
// renders the same and opens a private context in a quarter of the processor's time.
const shell = "chromium-headless-shell"

// Find gives the path of the Chromium to look with: the headless shell when it is
// installed, else the whole one. It fails with a hint when there is none.
func Find() (string, error) {
	for _, name := range []string{shell, "chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", errors.New("no Chromium was found. Install Debian's package " + shell + " or chromium, or name its path")
}

// Launcher is how the Chromium at a path is started: without a profile of its own, without
// the network's background work, and with what makes two pictures of a page the same.
func Launcher(binary string) *launcher.Launcher {
	return launcher.New().Bin(binary).Leakless(true).HeadlessNew(!strings.HasSuffix(binary, shell)).
		NoSandbox(os.Geteuid() == 0).
		Set("disable-gpu").Set("disable-quic").Set("no-first-run").Set("disable-sync").
		Set("disable-background-networking").Set("disable-component-update").
		Set("disable-site-isolation-trials").
		Set("disable-features", "IsolateOrigins", "site-per-process", "Translate", "MediaRouter", "OptimizationHints", "PreloadTopChromeWebUI").
		Set("run-all-compositor-stages-before-draw").Set("hide-scrollbars").Set("force-color-profile", "srgb").Set("font-render-hinting", "none").
		Set("disable-lcd-text").Set("mute-audio").Set("force-webrtc-ip-handling-policy", "disable_non_proxied_udp").Set("lang", "en-GB").
		Delete(flags.Flag("use-mock-keychain"))
}
