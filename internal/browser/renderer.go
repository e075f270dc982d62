package browser

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
)

// sampleHTML has letters in each generic family, in several scripts, and what browsers draw themselves.
//
//go:embed sample.html
var sampleHTML string

// samples is how long a browser may take to draw the sample.
const samples = 30 * time.Second

// renderer says what draws the pictures of a Chromium that was just started: its version, and a sample drawn by it.
func renderer(b *rod.Browser) (*evidence.Renderer, error) {
	b = b.Timeout(samples)
	version, err := proto.BrowserGetVersion{}.Call(b)
	if err != nil {
		return nil, err
	}
	_, number, _ := strings.Cut(version.Product, "/")
	out := &evidence.Renderer{Browser: "Chromium " + number, Fonts: map[string]string{}}
	private, err := b.Incognito()
	if err != nil {
		return nil, err
	}
	defer func() { _ = private.Close() }()
	p, err := private.Page(proto.TargetCreateTarget{URL: "about:blank"})
	if err != nil {
		return nil, err
	}
	if err := (proto.EmulationSetDeviceMetricsOverride{Width: 640, Height: 720, DeviceScaleFactor: 1}).Call(p); err != nil {
		return nil, err
	}
	if err := p.SetDocumentContent(sampleHTML); err != nil {
		return nil, err
	}
	if out.Fonts, err = fontsOf(p); err != nil {
		return nil, err
	}
	raw, err := p.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	if err != nil {
		return nil, err
	}
	out.Sample, err = pixelsOf(raw)
	return out, err
}

// fontsOf are the fonts that a browser draws each family and script of the sample with, by name.
func fontsOf(p *rod.Page) (map[string]string, error) {
	doc, err := proto.DOMGetDocument{}.Call(p)
	if err != nil {
		return nil, err
	}
	if err := (proto.CSSEnable{}).Call(p); err != nil {
		return nil, err
	}
	found, err := proto.DOMQuerySelectorAll{NodeID: doc.Root.NodeID, Selector: "[data-font]"}.Call(p)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, id := range found.NodeIDs {
		attributes, err := proto.DOMGetAttributes{NodeID: id}.Call(p)
		if err != nil {
			return nil, err
		}
		fonts, err := proto.CSSGetPlatformFontsForNode{NodeID: id}.Call(p)
		if err != nil {
			return nil, err
		}
		most := -1.0
		for _, f := range fonts.Fonts {
			if f.GlyphCount > most {
				most, out[attribute(attributes.Attributes, "data-font")] = f.GlyphCount, f.FamilyName
			}
		}
	}
	return out, nil
}

// attribute reads one of a list of names and values in turn.
func attribute(list []string, name string) string {
	for i := 0; i+1 < len(list); i += 2 {
		if list[i] == name {
			return list[i+1]
		}
	}
	return ""
}

// pixelsOf is the SHA-256 of a picture's pixels, whatever the file packs them like.
func pixelsOf(raw []byte) (string, error) {
	img, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return "", fmt.Errorf("read the sample's picture: %w", err)
	}
	flat := image.NewNRGBA(img.Bounds())
	draw.Draw(flat, flat.Bounds(), img, img.Bounds().Min, draw.Src)
	sum := sha256.Sum256(flat.Pix)
	return hex.EncodeToString(sum[:]), nil
}
