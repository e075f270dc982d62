// Package act acts on the settings of environments, and reads them: intent recorded,
// applied on condition that nobody changed anything since, read back, outcome recorded.
//
// [Acts.Apply] is the only way in which settings are changed; it ends as a
// release.Outcome. [Acts.Read] reads an environment, settles what was unknown before,
// and notes what somebody changed outside as drift. Where a person changes the settings,
// [Acts.TakeExport] and [Acts.CompleteManualTask] take the place of both.
//
// It does not decide what to apply, and looks at no page.
package act
