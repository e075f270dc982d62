package evidence

// Apart tells the findings of two runs apart: which only the first has, which only the second, and which both. A finding is the same
// when its fingerprint is: its place and its cause. One that a run has twice is paired twice at most. The results are places in a and b;
// both holds pairs of them. Each keeps the order that it had.
func Apart(a, b []Finding) (gone, came []int, both [][2]int) {
	waiting := map[string][]int{}
	for i, f := range b {
		waiting[f.Fingerprint] = append(waiting[f.Fingerprint], i)
	}
	paired := map[int]bool{}
	for i, f := range a {
		if list := waiting[f.Fingerprint]; len(list) > 0 {
			both = append(both, [2]int{i, list[0]})
			paired[list[0]] = true
			waiting[f.Fingerprint] = list[1:]
			continue
		}
		gone = append(gone, i)
	}
	for i := range b {
		if !paired[i] {
			came = append(came, i)
		}
	}
	return gone, came, both
}
