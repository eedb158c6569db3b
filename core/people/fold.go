package people

import (
	"strings"
	"unicode"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// lookalikes are letters of other scripts that can't be told from a Latin one by eye (after Unicode Technical Standard
// 39), in their folded form.
var lookalikes = func() map[rune]rune {
	m := map[rune]rune{}
	for latin, others := range map[rune]string{
		'a': "аαɑ",
		'b': "Ьƅ",
		'c': "сϲᴄ",
		'd': "ԁ",
		'e': "еҽ",
		'g': "ɡ",
		'h': "һ",
		'i': "іιı",
		'j': "јϳ",
		'k': "кκ",
		'l': "ӏǀ",
		'm': "м",
		'n': "ոη",
		'o': "оοօσ",
		'p': "рρ",
		'q': "ԛ",
		's': "ѕ",
		't': "тτ",
		'u': "υս",
		'v': "νѵ",
		'w': "ԝѡ",
		'x': "хχ",
		'y': "уγү",
		'z': "ᴢ",
	} {
		for _, r := range others {
			m[r] = latin
		}
	}
	return m
}()

// Key is what two values have in common that people would take for the same: compatibility form, small letters, Latin
// letters for those that look like them, and nothing that can't be seen. Values are looked for by it and then compared
// exactly, so that a difference is found and refused, never overlooked.
func Key(v string) string {
	if plain(v) {
		return v
	}
	v = cases.Fold().String(norm.NFKC.String(v))
	v = strings.Map(func(r rune) rune {
		if l, ok := lookalikes[r]; ok {
			return l
		}
		if unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Mn, r) && r == 0x034f || unicode.IsSpace(r) || unicode.IsControl(r) {
			return -1
		}
		return r
	}, v)
	return norm.NFC.String(v)
}

// SortKey is a name as it is sorted and searched: small letters without marks on them, words parted by one space.
func SortKey(name string) string {
	bare := strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFKD.String(cases.Fold().String(name)))
	return norm.NFC.String(strings.Join(strings.Fields(bare), " "))
}

// plain says whether a value is its own key.
func plain(v string) bool {
	for i := range len(v) {
		if c := v[i]; c <= ' ' || c >= 0x7f || 'A' <= c && c <= 'Z' {
			return false
		}
	}
	return true
}

// Difference names how two values with the same key differ.
func Difference(a, b string) string {
	switch {
	case a == b:
		return ""
	case strings.TrimSpace(a) == strings.TrimSpace(b) || strings.Join(strings.Fields(a), "") == strings.Join(strings.Fields(b), ""):
		return "only in spaces"
	case strings.EqualFold(a, b):
		return "only in upper and lower case"
	}
	return "in letters that look alike"
}
