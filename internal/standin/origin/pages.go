package origin

import (
	"fmt"
	"html/template"
	"io/fs"
	"path"
	"strings"
)

// Pages reads a site's templates: one for each file of the folder templates, put into
// the frame that has this name. Prices are written in pounds by "money".
func Pages(files fs.FS, frame string) (map[string]*template.Template, error) {
	names, err := fs.Glob(files, "templates/*.html")
	if err != nil {
		return nil, err
	}
	money := func(pence int) string { return fmt.Sprintf("£%d.%02d", pence/100, pence%100) }
	pages := map[string]*template.Template{}
	for _, n := range names {
		if path.Base(n) == frame {
			continue
		}
		t, err := template.New(frame).Funcs(template.FuncMap{"money": money}).ParseFS(files, "templates/"+frame, n)
		if err != nil {
			return nil, err
		}
		pages[strings.TrimSuffix(path.Base(n), ".html")] = t
	}
	return pages, nil
}
