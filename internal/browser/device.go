package browser

import (
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/site"
)

// device is what a page is looked at with.
type device struct {
	width, height int
	touch         bool
	agent         string
}

var devices = map[string]device{
	site.Desktop: {1280, 800, false, "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.0.0 Safari/537.36"},
	site.Phone:   {390, 844, true, "Mozilla/5.0 (Linux; Android 14; Phone) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.0.0 Mobile Safari/537.36"},
}

// Agent is how a kind of device calls itself.
func Agent(name string) string { return devices[name].agent }

func (d device) metrics() proto.EmulationSetDeviceMetricsOverride {
	return proto.EmulationSetDeviceMetricsOverride{
		Width: d.width, Height: d.height, DeviceScaleFactor: 1, Mobile: d.touch,
	}
}
