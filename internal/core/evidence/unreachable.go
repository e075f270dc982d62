package evidence

import (
	"net/url"
	"strings"

	"tidemarker/internal/core/words"
)

// unreachableFindings report hosts that could not be reached and could be before: one finding for each, whatever was asked of it.
func unreachableFindings(k Key, before, now []Request) []Finding {
	unreachable := func(list []Request) (hosts []string, of map[string][]Request) {
		of = map[string][]Request{}
		for _, r := range list {
			if u, err := url.Parse(r.URL); err == nil && r.Broken() && r.Unreachable != "" && r.Kind != "document" {
				hosts, of[u.Host] = append(hosts, u.Host), append(of[u.Host], r)
			}
		}
		return unique(hosts), of
	}
	had, _ := unreachable(before)
	hosts, requests := unreachable(now)
	var out []Finding
	for _, host := range newIn(had, hosts) {
		var paths []string
		for _, r := range requests[host] {
			paths = append(paths, pathOf(r.URL))
		}
		out = append(out, k.about(MissingKind, Broken, host+" could not be reached").
			with("%s%s: %s.%s", strings.ToUpper(requests[host][0].Unreachable[:1]), requests[host][0].Unreachable[1:], words.Count(len(paths), "file"), listed(" Missing: ", unique(paths))).
			caused(unreachablePart+host))
	}
	return out
}

// unreachablePart starts the part of a finding on a host that could not be reached.
const (
	unreachablePart = "unreachable: "
	unreachableHost = string(MissingKind) + ": " + unreachablePart
)

// notedFindings report what limits left out of a look, and what the browser could not do.
func notedFindings(p PageLook) []Finding {
	if len(p.Noted) == 0 {
		return nil
	}
	return []Finding{p.about(NotCheckedKind, Note, "Not all of the page was looked at").with("%s", strings.Join(p.Noted, " ")).caused("not all of the page")}
}
