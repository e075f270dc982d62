// Package visual compares two pictures of a page: which pixels look different to a
// person, in which regions they lie, and how the second picture is laid over the
// first when the page grew or shrank.
//
// [Compare] is the entry point; [Result] holds the regions; [Draw] paints the
// difference for a person.
//
// Colours are compared by the HyAB distance (Abasi et al. 2020, "Distancing from a
// neighborhood: HyAB", Color Research & Act 45(2)) in OKLab (Ottosson 2020)
// with its toe-corrected lightness, so that 0 is the same and 1 is black against
// white. Pixels that only smooth an edge are left out after Vyšniauskas 2009,
// "Anti-aliased Pixel and Intensity Slope Detector".
//
// It knows nothing of pages, looks or findings.
package visual
