package exclusion

import (
	"fmt"
	"slices"
	"strings"
)

// byRole are the rules of each role that has patterns, roles in order.
func byRole(rules []Rule) (roles []string, of map[string][]int) {
	of = map[string][]int{}
	for i, r := range rules {
		if _, has := KindOf(r.Role); !has {
			continue
		}
		if of[r.Role] == nil {
			roles = append(roles, r.Role)
		}
		of[r.Role] = append(of[r.Role], i)
	}
	return roles, of
}

func compiled(rules []Rule, list []int) *Set {
	k, _ := KindOf(rules[list[0]].Role)
	patterns := make([]string, len(list))
	for n, i := range list {
		patterns[n] = rules[i].Pattern
	}
	return Compile(k, patterns)
}

// relations are what rules are to each other, whatever is known of the site.
func relations(l Layer) []Remark {
	var out []Remark
	rules := l.Rules
	roles, of := byRole(rules)
	for _, role := range roles {
		list := of[role]
		k, _ := KindOf(role)
		covered, ok := l.by[role].set.Covered()
		gone := map[int]bool{} // useless ones cover nothing
		for n, i := range list {
			r := rules[i]
			if !Possible(k, r.Pattern) {
				out = append(out, Remark{Kind: Impossible, Rule: &r, Text: fmt.Sprintf("“%s” can match nothing%s.", r.Pattern, hint(k, r.Pattern)), Mend: &Mend{Role: role, Key: r.Key, Remove: []string{r.Pattern}}})
				continue
			}
			if !ok {
				continue
			}
			by := slices.DeleteFunc(slices.Clone(covered[n]), func(j int) bool { return gone[j] || !Possible(k, rules[list[j]].Pattern) })
			// Of two that match the same the later one is useless.
			by = slices.DeleteFunc(by, func(j int) bool { return j > n && slices.Contains(covered[j], n) })
			if len(by) == 0 || len(by) < len(covered[n]) && !alone(k, r.Pattern, rules, list, by) {
				continue
			}
			gone[n] = true
			var names []string
			for _, j := range by {
				names = append(names, rules[list[j]].Pattern)
			}
			out = append(out, Remark{Kind: Useless, Rule: &r, By: names, Mend: &Mend{Role: role, Key: r.Key, Remove: []string{r.Pattern}},
				Text: fmt.Sprintf("“%s” does nothing that “%s” does not do.", r.Pattern, strings.Join(names, "”, “"))})
		}
	}
	for _, i := range of["query-vary"] {
		for _, j := range of["query-ignore"] {
			a, b := rules[i], rules[j]
			if example, both, err := Overlap(Name, a.Pattern, b.Pattern); err == nil && both {
				out = append(out, Remark{Kind: Both, Rule: &a, By: []string{b.Pattern}, Mend: &Mend{Role: a.Role, Key: a.Key, Remove: []string{a.Pattern}},
					Text: fmt.Sprintf("The parameter “%s” is in both lists, as “%s” and “%s”. It is ignored then.", example, a.Pattern, b.Pattern)})
			}
		}
	}
	return out
}

// alone tells whether what is left of the covering rules still covers.
func alone(k Kind, pattern string, rules []Rule, list, by []int) bool {
	var others []string
	for _, j := range by {
		others = append(others, rules[list[j]].Pattern)
	}
	within, _, err := Within(k, pattern, others...)
	return err == nil && within
}

func hint(k Kind, pattern string) string {
	if k == Path && pattern != "" {
		return ": an address begins with “/”"
	}
	return ""
}
