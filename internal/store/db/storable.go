package db

import (
	"fmt"
)

// Bounds of what the database keeps of JSON (PostgreSQL 15, 8.1.2 and 8.14): numbers of
// more digits or larger exponents overflow.
const (
	mostDigits         = 16_000
	mostExponentDigits = 4
)

// Unstorable says why the database cannot keep a JSON text that is otherwise right, or
// gives "": it holds the character NUL, or a number beyond all use.
func Unstorable(text []byte) string {
	inString, digits := false, 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case inString && c == '\\':
			if i+5 < len(text) && string(text[i+1:i+6]) == "u0000" {
				return `it holds the character NUL (\u0000), which cannot be kept`
			}
			i++
		case c == '"':
			inString = !inString
		case inString:
		case c >= '0' && c <= '9':
			if digits++; digits > mostDigits {
				return fmt.Sprintf("it holds a number of more than %d digits, which cannot be kept", mostDigits)
			}
			continue
		case (c == 'e' || c == 'E') && digits > 0:
			if n := exponent(text[i+1:]); n > mostExponentDigits {
				return fmt.Sprintf("it holds a number with an exponent of %d digits, which cannot be kept", n)
			}
		}
		digits = 0
	}
	return ""
}

// exponent counts the digits of an exponent, zeros at its beginning left out.
func exponent(text []byte) (n int) {
	for i, c := range text {
		switch {
		case i == 0 && (c == '+' || c == '-'), c == '0' && n == 0:
		case c >= '0' && c <= '9':
			n++
		default:
			return n
		}
	}
	return n
}
