package access

import (
	"crypto/sha256"
	_ "embed"
	"encoding/binary"
	"sort"
	"strings"
	"unicode"
)

// common holds the marks of passwords that many people have chosen, as breaches showed, rising: four bytes each, big
// endian. One password in 50,000 that is none of them is taken for one. tools/passwords makes it.
//
//go:embed common.bin
var common []byte

// CommonMark is what a common password is known by: the first four bytes of its SHA-256.
func CommonMark(form string) uint32 {
	sum := sha256.Sum256([]byte(form))
	return binary.BigEndian.Uint32(sum[:])
}

func known(form string) bool {
	mark := CommonMark(form)
	n := len(common) / 4
	i := sort.Search(n, func(i int) bool { return binary.BigEndian.Uint32(common[4*i:]) >= mark })
	return i < n && binary.BigEndian.Uint32(common[4*i:]) == mark
}

// instead are letters for which people write something else.
var instead = strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t", "@", "a", "$", "s", "!", "i")

// fewestLetters is how many letters the word in a password has at least, of which the rest is decoration.
const fewestLetters = 5

// mostDecoration is how many digits and signs around a common word leave it as easy to guess.
const mostDecoration = 8

// CommonForms are the forms in which a common password is kept: as it is in small letters, and the word in it.
func CommonForms(password string) []string {
	forms := []string{strings.ToLower(password)}
	if word := wordIn(password); len(word) >= fewestLetters && word != forms[0] {
		forms = append(forms, word)
	}
	return forms
}

// wordIn is a password in small letters, without the digits and signs before and behind, and with letters for what
// stands in their place.
func wordIn(password string) string {
	bare := strings.TrimFunc(strings.ToLower(password), func(r rune) bool { return !unicode.IsLetter(r) })
	return instead.Replace(bare)
}

// repeated is what a text consists of, again and again; the text itself where it does not.
func repeated(text string) string {
	for n := 1; n <= len(text)/2; n++ {
		if len(text)%n == 0 && strings.Repeat(text[:n], len(text)/n) == text {
			return text[:n]
		}
	}
	return text
}

// rows are what is next to each other on keyboards and in the alphabet.
var rows = []string{"abcdefghijklmnopqrstuvwxyz", "01234567890", "qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "yxcvbnm",
	"azertyuiop"}

// leaps counts the places in a text where what follows is not what is next to it, or the same.
func leaps(text string) (n int) {
	for i := 1; i < len(text); i++ {
		pair, back := text[i-1:i+1], string([]byte{text[i], text[i-1]})
		near := text[i] == text[i-1]
		for _, row := range rows {
			near = near || strings.Contains(row, pair) || strings.Contains(row, back)
		}
		if !near {
			n++
		}
	}
	return n
}

// Common tells whether a password is one that guessers try first: one that many people have, with whatever digits and
// signs around it, the same few characters again and again, or a walk over the keyboard.
func Common(password string) bool {
	small := strings.ToLower(password)
	unit := repeated(small)
	word := wordIn(password)
	switch {
	case known(small), known(unit), unit != small && len(unit) < 6:
		return true
	case len(word) >= fewestLetters && known(word) && len(small)-len(word) <= mostDecoration:
		return true
	case len(word) >= fewestLetters && known(repeated(word)) && repeated(word) != word:
		return true
	}
	return leaps(small) <= len(small)/5
}
