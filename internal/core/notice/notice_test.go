package notice_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/notice"
)

var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func TestMuchThatComesAtATimeIsOneLetter(t *testing.T) {
	var items []notice.Item
	for n := range 1000 {
		items = append(items, notice.Item{Site: fmt.Sprintf("Site %d", n%2), Topic: notice.Settled, Title: fmt.Sprintf("Finding %d", n), At: noon, Number: int64(n)})
	}
	items = append(items, notice.Item{Site: "Site 1", Topic: notice.Broken, Title: "Buying does not work", At: noon.Add(time.Hour)})
	l := notice.Compose(items, false)
	assert.Equal(t, "1001 notices of 2 sites, first: Buying does not work", l.Subject)
	require.Len(t, l.Groups, 3, "the most urgent topic first, and each site by itself")
	assert.Equal(t, "Production is broken, or may be", l.Groups[0].Topic)
	assert.Len(t, l.Groups[1].Items, 5)
	assert.Equal(t, 495, l.Groups[1].More)
	assert.Equal(t, "Today: Site 1: Buying does not work", notice.Compose(items[1000:], true).Subject)
}

// Whatever comes when: nothing is sent before it was collected, two letters are apart, and everything is sent once.
func TestAStormIsFewLetters(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		var pending []time.Time
		var last time.Time
		came, sent, letters := 0, 0, 0
		comes := map[int]int{}
		for _, s := range rapid.SliceOfN(rapid.IntRange(0, 1800), 0, 200).Draw(r, "comes") {
			comes[s]++
		}
		for s := range 3600 {
			now := noon.Add(time.Duration(s) * time.Second)
			for range comes[s] {
				pending = append(pending, now)
				came++
			}
			if len(pending) > 0 && notice.Due(pending[0], last, now) {
				require.GreaterOrEqual(r, now.Sub(pending[0]), notice.Collect)
				if !last.IsZero() {
					require.GreaterOrEqual(r, now.Sub(last), notice.Apart)
				}
				sent, last, pending = sent+len(pending), now, nil
				letters++
			}
		}
		assert.Equal(r, came, sent+len(pending))
		assert.LessOrEqual(r, letters, 7, "in half an hour")
	})
}

func TestTheDailyMailComesOnceADayByThePersonsClock(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	last := time.Date(2026, 3, 27, 20, 0, 0, 0, time.UTC)
	var came []string
	for now, end := last, last.Add(4*24*time.Hour); now.Before(end); now = now.Add(10 * time.Minute) {
		if now.Day() == 30 && now.Hour() < 15 {
			continue // nobody was there
		}
		if notice.DailyDue("08:00", zone, last, now) {
			came, last = append(came, now.Format("02 15:04")), now
		}
	}
	// Clocks go forward in the night to the 29th: 08:00 is at 07:00 UTC before it and at 06:00 after it. What was missed came once.
	assert.Equal(t, []string{"28 07:00", "29 06:00", "30 15:00", "31 06:00"}, came)
	assert.False(t, notice.DailyDue("soon", zone, last, last.Add(48*time.Hour)))
}

func TestADeliveryIsTriedForAboutADay(t *testing.T) {
	whole, n := time.Duration(0), 0
	for tries := 1; ; tries++ {
		pause, more := notice.Retry(tries)
		if !more {
			break
		}
		whole += pause
		n++
	}
	assert.Equal(t, 7, n)
	assert.Equal(t, "27h35m5s", whole.String())
	_, more := notice.Retry(0)
	assert.False(t, more)
}

func TestWhatASiteSaysEndsNoLineOfAMail(t *testing.T) {
	line := notice.Line("Page\r\nBcc: all@example.org\u2028title\x00")
	assert.Equal(t, "Page Bcc: all@example.org title", line)
	assert.Len(t, []rune(notice.Line(strings.Repeat("å", 500))), 140)
	assert.Equal(t, "It broke", notice.Title("It broke. And more."))
	assert.Equal(t, "See 1.5 s", notice.Title("See 1.5 s."))
	for _, about := range notice.Topics {
		got, known := notice.Of(about.Topic)
		assert.True(t, known && got == about && about.Text != "")
	}
}
