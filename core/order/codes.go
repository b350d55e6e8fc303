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

// GTIN14 returns a GTIN as one of 14 digits: GTIN-8, GTIN-12 (UPC) and GTIN-13 (EAN) have zeros before them there (GS1
// General Specifications), so that the same item has the same code in each of them. Any other code stays as it is.
func GTIN14(code string) string {
	switch len(code) {
	case 8, 12, 13:
		if IsDigits(code) {
			return "00000000000000"[len(code):] + code
		}
	}
	return code
}
