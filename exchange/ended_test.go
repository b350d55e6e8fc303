package exchange

import "testing"

// TestEnded tells a file that ends with an interchange's trailer from one of which more may come.
func TestEnded(t *testing.T) {
	const se = "SE*4*0001~GE*1*77~"
	for tail, want := range map[string]bool{
		se + "IEA*1*000000905~":                 true,
		se + "\nIEA*1*000000905~\r\n":           true,
		"SE|4|0001\nGE|1|77\nIEA|1|000000905\n": false, // a line break as the terminator: nothing shows that it is all
		se + "IEA*1*0000009":                    false,
		se + "IEA*1":                            false,
		se + "IEA":                              false,
		se:                                      false,
		"IEA*1*000000905~":                      false,
		"":                                      false,
		se + "IEA*1*000000905~ISA*00*          *00*   ": false,
		"N1*ST*THE IEA*1*2~":                            false,
	} {
		if got := ended([]byte(tail)); got != want {
			t.Errorf("%q: %t", tail, got)
		}
	}
}
