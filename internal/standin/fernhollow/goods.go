package fernhollow

type kit struct {
	Slug, Name, Kind, Note string
	Pence                  int
	Weeks                  int
}

// Picture is the address of the kit's picture.
func (k kit) Picture() string { return "/pictures/" + k.Slug + ".png" }

var kinds = []string{"oyster", "lion's mane", "chestnut"}

var kits = []kit{
	{"pearl-oyster-box", "Pearl oyster box", "oyster", "The forgiving one: three flushes from a single box.", 2250, 3},
	{"golden-oyster-log", "Golden oyster log", "oyster", "Bright caps, a nutty smell, no patience needed.", 2890, 4},
	{"tawny-mane-block", "Tawny mane block", "lion's mane", "A white beard that tastes of the sea.", 2640, 5},
	{"winter-mane-duo", "Winter mane duo", "lion's mane", "Two blocks that take turns through the cold months.", 4490, 6},
	{"cellar-chestnut-tray", "Cellar chestnut tray", "chestnut", "Brown buttons for a dark shelf.", 1980, 4},
	{"forest-chestnut-crate", "Forest chestnut crate", "chestnut", "A crate that feeds four from March to May.", 3720, 7},
	{"first-flush-set", "First flush set", "oyster", "Box, mister and a field card for beginners.", 3150, 3},
	{"deep-wood-mane-trunk", "Deep wood mane trunk", "lion's mane", "A trunk for the garden that fruits for years.", 5400, 26},
}

func kitBySlug(slug string) (kit, bool) {
	for _, k := range kits {
		if k.Slug == slug {
			return k, true
		}
	}
	return kit{}, false
}

type article struct {
	Slug, Title, Lead string
	Paragraphs        []string
}

// Picture is the address of the article's picture.
func (a article) Picture() string { return "/pictures/wide-" + a.Slug + ".png" }

var articles = []article{
	{"reading-the-first-pins", "Reading the first pins", "What the first day of fruiting tells you about air, water and light.", []string{
		"Pins that stretch and stay thin ask for air. Open the flap a finger wider, and look again on the next morning.",
		"Pins that turn brown at the tip ask for water. Mist the walls of the box, not the block itself: drops that stand on the skin leave marks.",
		"Pins that lean all one way have found the lamp. Turn the box a quarter each day, or move it to where the light comes from everywhere.",
	}},
	{"a-year-in-the-cellar", "A year in the cellar", "Twelve months of notes from a shelf at eleven degrees.", []string{
		"January is for the slow ones. Nothing happens for weeks, and then the chestnut tray is full within three days.",
		"From May on the cellar is too warm. We move the blocks to the north wall and wait for the first cool night of September.",
		"In November the mane came back after we had given it up. We have stopped giving blocks up since.",
	}},
	{"spore-prints-on-paper", "Spore prints on paper", "How to take a print that lasts, with a glass and an evening.", []string{
		"Lay the cap on half white and half black paper, gills down, and put a glass over it.",
		"By morning the print is there. Lift the cap straight up; a print that is smeared tells nothing.",
	}},
}

type slide struct{ Heading, Text, Picture string }

var slides = []slide{
	{"Spring boxes are here", "Packed the morning they leave.", "/pictures/slide-spring.png"},
	{"The field library", "Forty years of notes, now for members.", "/pictures/slide-library.png"},
	{"Trunks for the garden", "One afternoon's work, ten years of fruit.", "/pictures/slide-trunks.png"},
}

type quotation struct{ Text, Who string }

var quotations = []quotation{
	{"The box did nothing for nine days and then would not stop.", "Ada, Lower Wick"},
	{"My cellar has never been so interesting.", "Tom, Harrow End"},
	{"I talk to it. It helps.", "Ines, Saltby"},
	{"Three flushes, as promised, and a fourth nobody promised.", "Wren, Oakham Mill"},
	{"Ate the first one standing at the sink.", "Bertil, Northby"},
}

var memberArticles = []article{
	{"the-long-cellar", "The long cellar", "Forty years of temperatures, and what they gave.", []string{
		"Shelf nine has been at eleven degrees since the flood, and has given every autumn since.",
		"The mane prefers the wall that faces the stream. Nobody knows why; it has been written down so often that we believe it.",
	}},
	{"the-spawn-book", "The spawn book", "Every strain we keep, with its quirks.", []string{
		"Strain 14 sulks when it is moved. Leave it where it was born.",
	}},
}

// batch is a kit with how many of its batch are left.
type batch struct {
	kit
	Left int64
}
