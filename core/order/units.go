package order

import "strings"

// units are the codes of UN/ECE Recommendation 20 (and its trade predecessors) that order documents use most, and those
// of packages of Recommendation 21, with and without the X that marks them. They are used if no list `units` was
// imported.
var units = func() map[string]bool {
	all := map[string]bool{}
	for code := range strings.FieldsSeq(`
		C62 EA H87 PCE PR NPR SET AS KT DZN GRO CEN MIL TP NAR NMP LO LS E48
		KGM GRM MGM TNE LBR ONZ STN LTN
		MTR CMT MMT KMT DMT FOT INH YRD SMI LF LM
		MTK CMK MMK FTK INK YDK BFT
		MTQ CMQ FTQ INQ YDQ LTR MLT CLT DLT HLT GLL GLI QTL PTL OZA BLL
		BX CT PK PA RO RL BG DR CA CS BO PF RM SO
		XAE XAM XBA XBC XBE XBG XBJ XBK XBL XBN XBO XBR XBX XCA XCI XCN XCR XCS XCT XCU XCX XCY XDR XEN XJC XJG XJR XJY
		XKG XLG XPA XPC XPG XPK XPL XPO XPU XPX XRD XRL XRO XSA XSH XST XSY XTB XTK XTN XTU XVI
		SEC MIN HUR DAY WEE MON ANN KWH MWH`) {
		all[code] = true
	}
	return all
}()

// KnownUnit reports whether code, in capitals, is a common unit of measure.
func KnownUnit(code string) bool { return units[code] }
