package list

import (
	"maps"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// UnitWords is the shipped crosswalk from common words for units to UN/ECE codes.
const UnitWords = "unit-words"

// AnswerWords is the shipped crosswalk from common words with which sellers answer a line to those of Koinos.
const AnswerWords = "answer-words"

// answerWords are such words. A word with two meanings, such as "no" (not yet, or not at all) or "out of stock" (it
// comes later, or never), is in none of them.
var answerWords = []struct{ is, words string }{
	{"accepted", "confirmed|confirm|conf|ok|okay|yes|y|full|in full|as ordered|accept|agreed|bestätigt|ja|in ordnung|confirmé|" +
		"oui|conforme|confirmado|sí|aceptado|confermato|accettato|bevestigd|akkoord|bekræftet|bekreftet|bekräftad|" +
		"potwierdzone|tak"},
	{"changed", "amended|modified|revised|accepted with changes|confirmed with changes|partial|partially confirmed|" +
		"short|geändert|abweichend|teilweise|modifié|partiel|modificado|parcial|modificato|parziale|gewijzigd|" +
		"gedeeltelijk|ændret"},
	{"back-ordered", "backorder|backordered|back order|back ordered|on back order|bo|b/o|delay|delayed|later|rückstand|" +
		"nachlieferung|in rückstand|reliquat|en reliquat|pendiente de entrega|in arretrato|nalevering|restordre"},
	{"pending", "tbc|to be confirmed|awaiting confirmation|in progress|in process|not yet|ausstehend|in arbeit|" +
		"en attente|en cours|pendiente|in attesa|in behandeling|afventer"},
	{"refused", "rejected|reject|rej|declined|cancelled|canceled|discontinued|unavailable|not available|obsolete|eol|" +
		"abgelehnt|storniert|nicht lieferbar|refusé|annulé|rechazado|cancelado|rifiutato|annullato|geweigerd|afgewezen|" +
		"geannuleerd|afvist|odrzucone"},
}

// ChangeWords is the shipped crosswalk from common words for what happens to a line to those of Koinos.
const ChangeWords = "change-words"

var changeWords = []struct{ is, words string }{
	{"add", "added|ins|new|new line|insert|plus|neu|hinzufügen|ajouter|nouveau|añadir|nuevo|aggiungere|nuovo|toevoegen|nieuw"},
	{"change", "changed|chg|upd|mod|update|updated|modify|modified|amend|amended|edit|ändern|änderung|modifier|modifié|cambiar|" +
		"modificar|modificare|wijzigen|ændre"},
	{"delete", "deleted|del|rem|cxl|remove|removed|cancel|cancelled|canceled|drop|storno|stornieren|löschen|supprimer|annuler|" +
		"eliminar|cancelar|anular|eliminare|annullare|verwijderen|annuleren|slet"},
	{"replace", "replaced|substitute|substituted|swap|exchange|ersetzen|remplacer|sustituir|reemplazar|sostituire|" +
		"vervangen|erstat"},
}

// wordPairs are words as people write them: in lower case, with a capital, and in capitals.
func wordPairs(table []struct{ is, words string }) (pairs []Pair) {
	for _, a := range table {
		for word := range strings.SplitSeq(a.words, "|") {
			first, size := utf8.DecodeRuneInString(word)
			for _, w := range slices.Compact([]string{word, string(unicode.ToUpper(first)) + word[size:],
				strings.ToUpper(word)}) {
				pairs = append(pairs, Pair{Theirs: w, Ours: a.is})
			}
		}
	}
	return pairs
}

// PricePer is the crosswalk of the letters that say how many units a price is for: C a hundred, M a thousand.
const PricePer = "price-per"

// shipped are the crosswalks that ship with Koinos, by name. Those between codes of X12 and ours are for units (element
// 355 and UN/ECE Recommendation 20), for allowances and charges (elements 248 and 1300), and for the number of units
// that a price is for (element 639, in which many codes only say what kind of price it is).
var shipped = sync.OnceValue(func() map[string]*Crosswalk {
	all := map[string]*Crosswalk{UnitWords: NewCrosswalk(unitPairs()), AnswerWords: NewCrosswalk(wordPairs(answerWords)),
		ChangeWords: NewCrosswalk(wordPairs(changeWords))}
	for name, text := range map[string]string{
		"x12-units": "EA=EA PC=EA UN=EA BX=BX CT=CT DZ=DZN PR=PR ST=SET MR=MTR CM=CMT MM=MMT DK=KMT " +
			"FT=FOT IN=INH YD=YRD KG=KGM GR=GRM LB=LBR OZ=ONZ LT=LTR ML=MLT GA=GLL PK=PK RL=RL RO=RO BG=BG DR=DR " +
			"CA=CS CS=CS CN=CA BO=BO GS=GRO SM=MTK SF=FTK CR=MTQ HR=HUR DA=DAY MO=MON " +
			"AS=AS KT=KT LO=LO LS=LS TP=TP HU=CEN TH=MIL LF=LF LM=LM SI=INK SY=YDK BF=BFT CC=CMQ CF=FTQ CI=INQ CY=YDQ " +
			"QT=QTL PT=PTL FO=OZA TN=STN MP=TNE BA=XBN BD=XBE BR=XBA CL=XCY EV=XEN JR=XJR KE=XKG PA=XPL PH=PA PL=PF RE=XRL RM=RM " +
			"SH=XST SO=SO TB=XTU TK=XTK TY=XPU VI=XVI V2=XPO",
		PricePer:           "E=1 EA=1 EACH=1 U=1 UN=1 UNIT=1 PC=1 PCS=1 1=1 10=10 C=100 HD=100 100=100 M=1000 MPC=1000 TH=1000 1000=1000",
		"x12-price-basis":  "PE=1 UM=1 QE=1 TE=1 LE=1 WE=1 PR=1 CA=1 CT=1 QT=1 FX=1 NC=1 PN=10 HP=100 TP=1000",
		"x12-charge-kinds": "A=allowance C=charge",
		"x12-charge-codes": "D240=freight C310=discount F050=other D500=handling D980=insurance H850=tax " +
			"I170=trade-discount",
	} {
		var pairs []Pair
		for _, p := range strings.Fields(text) {
			theirs, ours, _ := strings.Cut(p, "=")
			pairs = append(pairs, Pair{Theirs: theirs, Ours: ours})
		}
		all[name] = NewCrosswalk(pairs)
	}
	return all
})

// ShippedNames are the names of the crosswalks that ship with Koinos, in their order.
func ShippedNames() []string { return slices.Sorted(maps.Keys(shipped())) }

// Shipped returns the pairs of a crosswalk that ships with Koinos, theirs as code and ours as name; none if there is no
// such crosswalk.
func Shipped(name string) []Entry {
	c := shipped()[name]
	if c == nil {
		return nil
	}
	entries := make([]Entry, len(c.pairs))
	for i, p := range c.pairs {
		entries[i] = Entry{Code: p.Theirs, Name: p.Ours}
	}
	return entries
}

// unitWords are words for units in orders, behind the codes of UN/ECE Recommendations 20 and 21 that mean the same. The
// crosswalk returns the first code. A word with two meanings, such as "gr" (gram, gross) or "ml" (millilitre, mètre
// linéaire), is in none of them.
var unitWords = []struct{ codes, words string }{
	{"EA H87 C62 PCE", "pcs pc piece pieces each unit units item items stk stück stueck stuck st pièce pièces piece(s) " +
		"pce pces pza pzas pieza piezas unidad unidades ud uds pezzo pezzi pz stuks stuk szt sztuka sztuki sztuk styk " +
		"styck stycken kpl ks kus kusy db un unid 个 個 件 只 支 台 枚 개"},
	{"BX XBX", "box boxes bxs schachtel schachteln boîte boîtes boite boites caja cajas scatola scatole doos " +
		"pudełko pudełka æske æsker ask askar"},
	{"CT XCT", "carton cartons ctn ctns cartn karton kartons kartony kartonów krt cartone cartoni cartón cartones"},
	{"CS XCS", "case cases"},
	{"CA XCA", "can cans tin tins dose dosen"},
	{"BG XBG", "bag bags beutel tüte tüten sachet sachets bolsa bolsas sacchetto sacchetti zak zakken torba worek " +
		"pose poser påse påsar"},
	{"XSA", "sack sacks säcke sac sacs saco sacos sacco sacchi"},
	{"RO XRO RL", "roll rolls rolle rollen rouleau rouleaux rollo rollos rotolo rotoli rol rolka rolki rolek rulle " +
		"ruller rullar"},
	{"PK XPK PA", "pack packs pkt packet packets package packages pkg pkgs packung packungen pck paquet paquets " +
		"paquete paquetes pacco pacchi pak pakken paczka paczki pakke pakker paket"},
	{"BO XBO", "bottle bottles btl btls flasche flaschen bouteille bouteilles botella botellas bottiglia bottiglie " +
		"fles flessen butelka butelki"},
	{"DR XDR", "drum drums fass fässer fût fûts bidón bidones fusto fusti vat vaten"},
	{"XTU", "tube tubes tube(s) tubo tubos tubetto tubetti"},
	{"XBE", "bundle bundles bdl bund bündel"},
	{"PF XPX", "pallet pallets plt palette paletten palettes palé palés bancale pallet(s) paleta palety"},
	{"SET", "set sets satz sätze jeu jeux juego juegos 套 セット 세트"},
	{"PR", "pair pairs paar paare paire paires par pares paio paia para pary"},
	{"DZN", "dozen dozens doz dz dutzend dzd douzaine douzaines docena docenas dozzina dozzine dozijn tuzin"},
	{"GRO", "gross"},
	{"MTR", "m mb mtr mtrs metre metres meter meters mètre mètres metro metros metri metr metry 米 メートル 미터"},
	{"CMT", "cm centimetre centimetres centimeter centimeters"},
	{"MMT", "mm millimetre millimetres millimeter millimeters"},
	{"KMT", "km kilometre kilometres kilometer kilometers"},
	{"FOT", "ft foot feet"},
	{"INH", "in inch inches"},
	{"YRD", "yd yds yard yards"},
	{"MTK", "m² m2 sqm qm"},
	{"FTK", "sqft ft² ft2"},
	{"MTQ", "m³ m3 cbm"},
	{"LTR", "l L ltr ltrs litre litres liter liters litro litros litri litr litry 升 リットル"},
	{"MLT", "millilitre millilitres milliliter milliliters"},
	{"CLT", "cl centilitre centilitres"},
	{"GLL", "gal gallon gallons"},
	{"KGM", "kg kgs kilo kilos kilogram kilograms kilogramm kilogramme kilogrammes 公斤 千克"},
	{"GRM", "g gram grams gramm gramme grammes gramo gramos grammo grammi"},
	{"TNE", "tonne tonnes"},
	{"LBR", "lb lbs pound pounds"},
	{"HUR", "h hr hrs hour hours stunde stunden std heure heures hora horas ora ore uur"},
	{"DAY", "day days tag tage jour jours día días giorno giorni dag dagen"},
	{"MON", "month months monat monate mois mes meses mese mesi maand maanden"},
}

// unitPairs are the words as people write them: in lower case, with a capital, in capitals, and each with the full stop
// of an abbreviation.
func unitPairs() []Pair {
	var pairs []Pair
	seen := map[string]bool{}
	for _, u := range unitWords {
		code, _, _ := strings.Cut(u.codes, " ")
		for _, word := range strings.Fields(u.words) {
			first, size := utf8.DecodeRuneInString(word)
			forms := []string{word, string(unicode.ToUpper(first)) + word[size:], strings.ToUpper(word)}
			switch {
			case size == len(word):
				forms = forms[:1] // M is a thousand to some, H a hundred
			case word == "st":
				forms = forms[:2] // ST is a set in X12
			}
			for _, w := range forms {
				for _, w := range []string{w, w + "."} {
					if !seen[w] {
						seen[w] = true
						pairs = append(pairs, Pair{Theirs: w, Ours: code})
					}
				}
			}
		}
	}
	return pairs
}

// UnitOf returns the code that a common word for a unit means, of those that known accepts: "pcs" is EA, or H87 if only
// that is known. usual says that the crosswalk UnitWords gives the same code.
func UnitOf(word string, known func(code string) bool) (code string, usual, ok bool) {
	first, _, ok := shipped()[UnitWords].Ours(word)
	if !ok {
		return "", false, false
	}
	for _, u := range unitWords {
		if codes := strings.Fields(u.codes); codes[0] == first {
			for _, code := range codes {
				if known(code) {
					return code, code == first, true
				}
			}
		}
	}
	return "", false, false
}
