package exclusion

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"
)

// large is 50,000 addresses and 2,000 rules of the kinds that sites have.
func large() (rules []Rule, k Known) {
	classes := []string{"item", "article", "listing", "account", "cart"}
	for n := range 50_000 {
		class := classes[n%len(classes)]
		k.Pages = append(k.Pages, Page{Path: fmt.Sprintf("/%s/part-%d/page-%d?ref=%d", class, n%97, n, n%7), Class: class, Never: class == "account" || class == "cart", FormLives: map[bool]int{true: 90}[n%1000 == 1], Shows: map[bool]int{true: 60}[n%500 == 2]})
	}
	for n := range 2000 {
		p := fmt.Sprintf("/%s/part-%d/", classes[n%5], n%97)
		switch n % 5 {
		case 1:
			p = fmt.Sprintf("/article/*/page-%d$", n*13)
		case 2:
			p = fmt.Sprintf("*page-%d?", n*7)
		case 3:
			p = fmt.Sprintf("/account/part-%d/page-%d", n%97, n)
		}
		rules = append(rules, Rule{Key: "never", Role: "path-exclude", Pattern: p})
	}
	return rules, k
}

// BenchmarkCoverage computes coverage of 50,000 addresses by 2,000 rules; "ratio" is its
// time against only matching each rule's regular expression on each address in the same
// run.
func BenchmarkCoverage(b *testing.B) {
	rules, k := large()
	var regs []*regexp.Regexp
	for _, r := range rules {
		q := "^" + strings.ReplaceAll(regexp.QuoteMeta(strings.TrimSuffix(r.Pattern, "$")), `\*`, ".*")
		if strings.HasSuffix(r.Pattern, "$") {
			q += "$"
		}
		regs = append(regs, regexp.MustCompile(q))
	}
	var plain, ours time.Duration
	for b.Loop() {
		start := time.Now()
		n := 0
		for _, p := range k.Pages {
			for _, re := range regs {
				if re.MatchString(p.Path) {
					n++
				}
			}
		}
		plain += time.Since(start)
		start = time.Now()
		if len(Coverage(Layer{On: true, Lifetime: 600, Rules: rules}, k)) == 0 || n == 0 {
			b.Fatal("nothing was found")
		}
		ours += time.Since(start)
	}
	b.ReportMetric(ours.Seconds()/float64(b.N), "coverage-s/op")
	b.ReportMetric(plain.Seconds()/float64(b.N), "regexp-s/op")
	b.ReportMetric(ours.Seconds()/plain.Seconds(), "ratio")
}
