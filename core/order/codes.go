package order

// IsDigits reports whether a code consists of digits only.
func IsDigits(code string) bool {
	for i := range len(code) {
		if code[i] < '0' || code[i] > '9' {
			return false
		}
	}
	return code != ""
}

// CheckDigit reports whether the last digit of a code of digits is the check digit of GS1: that of a GTIN, a GLN or an
// SSCC.
func CheckDigit(code string) bool {
	sum := 0
	for i := range len(code) {
		c := int(code[len(code)-1-i] - '0')
		if i%2 == 1 {
			c *= 3
		}
		sum += c
	}
	return IsDigits(code) && sum%10 == 0
}
