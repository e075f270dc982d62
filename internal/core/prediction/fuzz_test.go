package prediction

import "testing"

// FuzzReadScript reads the scripts of a site, which mean nobody any good.
func FuzzReadScript(f *testing.F) {
	f.Add([]byte("window.Fern = { on: f => document.addEventListener('DOMContentLoaded', f) }; Fern.on(() => carousel(document.body))"))
	f.Add([]byte("((((((((((a=>b=>c)))))))))) ?? `${`${`"))
	f.Fuzz(func(_ *testing.T, src []byte) { ReadScript(src) })
}
