package browser

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/site"
)

// Print makes a PDF (A4) of an HTML document of our own. Nothing that it names is fetched.
func (b *Browser) Print(ctx context.Context, html []byte) ([]byte, error) {
	release, err := b.acquire(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	ctx, cancel := context.WithTimeout(ctx, b.opt.Timeout)
	defer cancel()
	t, err := b.open(ctx, site.Environment{}, site.Desktop, State{}) // which owns no host, so that every request is refused
	if err != nil {
		return nil, err
	}
	defer t.close()
	if err := (proto.PageSetDocumentContent{FrameID: t.frame, HTML: string(html)}).Call(t.page); err != nil {
		return nil, t.explain(err)
	}
	if err := t.page.Timeout(10 * time.Second).WaitLoad(); err != nil {
		return nil, t.explain(err)
	}
	width, height, margin := 8.27, 11.69, 0.5 // inches
	pdf, err := t.page.PDF(&proto.PagePrintToPDF{PaperWidth: &width, PaperHeight: &height, MarginTop: &margin, MarginBottom: &margin, MarginLeft: &margin, MarginRight: &margin, PrintBackground: true})
	if err != nil {
		return nil, fmt.Errorf("print: %w", t.explain(err))
	}
	return io.ReadAll(pdf)
}
