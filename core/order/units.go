package order

// units are the codes of UN/ECE Recommendation 20 (and its trade predecessors) that order documents use most. They are
// used if no list `units` was imported.
var units = map[string]bool{
	"C62": true, "EA": true, "H87": true, "PCE": true, "PR": true, "SET": true, "DZN": true, "GRO": true,
	"KGM": true, "GRM": true, "TNE": true, "LBR": true, "ONZ": true,
	"MTR": true, "CMT": true, "MMT": true, "FOT": true, "INH": true, "YRD": true, "KMT": true,
	"MTK": true, "FTK": true, "MTQ": true, "LTR": true, "MLT": true, "GLL": true, "GLI": true,
	"BX": true, "CT": true, "PK": true, "PA": true, "RO": true, "RL": true, "BG": true, "DR": true, "CA": true,
	"CS": true, "BO": true, "PF": true, "XBX": true, "XCT": true, "XPK": true, "XRO": true,
	"HUR": true, "DAY": true, "MON": true,
}

// KnownUnit reports whether code, in capitals, is a common unit of measure.
func KnownUnit(code string) bool { return units[code] }
