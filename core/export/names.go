package export

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"mellowthump/core/session"
)

// Tokens are what a pattern of names may hold, with what each stands for.
var Tokens = []struct{ Token, Is string }{
	{
		"{song}",
		"the song's name",
	}, {"{nn}", "the stem's number"}, {"{name}", "what it is: the stem's name, mix, premaster"}, {"{bpm}", "the tempo"}, {"{key}", "the key"},
}

var (
	token = regexp.MustCompile(`\{[^{}]*\}`)
	gaps  = regexp.MustCompile(`([ _.-])[ _.-]*`)
)

// longestPattern is the most characters of one.
const longestPattern = 120

// CheckNames says in a sentence what is wrong with a pattern of names; an empty one is as is usual.
func CheckNames(pattern string) error {
	if pattern == "" {
		return nil
	}
	if len([]rune(pattern)) > longestPattern {
		return fmt.Errorf("a pattern of names has at most %d characters", longestPattern)
	}
	if !strings.Contains(pattern, "{name}") {
		return fmt.Errorf("the names need {name}, or all files are called the same")
	}
	for _, t := range token.FindAllString(pattern, -1) {
		known := false
		var all []string
		for _, k := range Tokens {
			known, all = known || k.Token == t, append(all, k.Token)
		}
		if !known {
			return fmt.Errorf("%s stands for nothing; known are %s", t, strings.Join(all, ", "))
		}
	}
	return nil
}

// Named is a file's name by a pattern, without its ending; n is a stem's number, 0: it is none. What stands for nothing leaves no gap.
func Named(pattern string, song *session.Song, n int, name string) string {
	number := ""
	if n > 0 {
		number = fmt.Sprintf("%02d", n)
	}
	const nothing = "\x00"
	out := token.ReplaceAllStringFunc(pattern, func(t string) string {
		v := map[string]string{"{song}": song.Name, "{nn}": number, "{name}": name, "{bpm}": strconv.FormatFloat(song.BPM, 'f', -1, 64), "{key}": song.Key}[t]
		if v == "" {
			return nothing
		}
		return v
	})
	if strings.Contains(out, nothing) {
		out = gaps.ReplaceAllString(strings.ReplaceAll(out, nothing, ""), "$1")
	}
	return strings.Trim(out, " _.-")
}
