package drafting

import "koinos/core/order"

// furtherWordings are the words of Finnish, Czech, Hungarian and Turkish, without accents (see plainLetters).
var furtherWordings = []wording{
	{order.Header, "sender_number", "tilausno|tilausnumero|tilaus no|ostotilaus|ostotilausnumero|cislo objednavky|objednavka|objednavka c|" +
		"c objednavky|rendelesszam|rendeles szama|megrendeles|megrendelesszam|siparis no|siparis numarasi", "tilaus|rendeles|siparis|viite"},
	{order.Header, "ordered_on", "tilauspaiva|tilauspvm|tilattu|datum objednavky|rendeles datuma|rendeles kelte|siparis tarihi",
		"paivamaara|pvm|keltezes|tarih"},
	{order.Header, "requested_delivery_on", "toimituspaiva|toimituspvm|toivottu toimituspaiva|toivottu toimitus|datum dodani|termin dodani|" +
		"termin|szallitasi hatarido|szallitas datuma|kert szallitas|teslim tarihi|teslimat tarihi|istenen teslim tarihi", "toimitus"},
	{order.Header, "currency", "mena|penznem|deviza|para birimi|doviz", ""},
	{order.Header, "payment_terms", "maksuehto|maksuehdot|platebni podminky|splatnost|fizetesi mod|fizetesi feltetel|odeme kosulu|odeme sekli", ""},
	{order.Header, "partner", "asiakasno|asiakasnumero|asiakas no|toimittajano|toimittajanumero|cislo zakaznika|kod zakaznika|vevoszam|vevo kod|" +
		"vevokod|musteri no|musteri kodu|cari kodu", "asiakas|toimittaja|zakaznik|odberatel|dodavatel|vevo|szallito|musteri|tedarikci"},
	{order.Header, "total", "loppusumma|tilauksen summa|yhteensa|celkem|celkem k uhrade|vegosszeg|osszesen|genel toplam", ""},
	{order.Header, "notes", "huomautus|huomautukset|lisatiedot|poznamka|poznamky|megjegyzes|aciklama|notlar", ""},
	{order.Header, "ship_to.code", "toimipiste|myymala|pobocka|prodejna|uzlet|bolt|magaza kodu|sube|sube kodu", "magaza"},
	{order.Header, "ship_to.name", "vastaanottaja|prijemce|cimzett|atvevo|alici", ""},
	{order.Header, "ship_to.street", "toimitusosoite|dodaci adresa|adresa dodani|szallitasi cim|teslimat adresi", ""},
	{order.Lines, "number", "rivi|rivino|rivinumero|radek|cislo radku|polozka c|sor|sorszam|tetel|satir|satir no|sira|sira no", ""},
	{order.Lines, "item", "tuoteno|tuotenumero|tuotekoodi|nimikeno|nimikenumero|nimikekoodi|cislo zbozi|kod zbozi|katalogove cislo|cislo polozky|" +
		"cikkszam|termekkod|urun kodu|stok kodu|malzeme kodu|malzeme no", "tuote|koodi|zbozi|termek|urun|malzeme"},
	{order.Lines, "description", "tuotenimi|tuotteen nimi|nimike|nimitys|kuvaus|selite|nazev|nazev zbozi|popis|megnevezes|termek neve|leiras|" +
		"urun adi|malzeme adi", ""},
	{order.Lines, "quantity", "maara|kpl|tilattu maara|tilausmaara|mnozstvi|pocet|pocet kusu|ks|mennyiseg|rendelt mennyiseg|db|miktar|siparis miktari|adet", ""},
	{order.Lines, "unit", "yksikko|jednotka|mj|merna jednotka|mertekegyseg|egyseg|me egyseg|birim|olcu birimi", ""},
	{order.Lines, "unit_price", "hinta|yksikkohinta|a hinta|nettohinta|jednotkova cena|cena za kus|cena mj|egysegar|ar|birim fiyat|birim fiyati|fiyat", ""},
	{order.Lines, "discount_percent", "alennus|alennus %|ale|ale %|sleva|sleva %|kedvezmeny|iskonto|iskonto %|indirim", ""},
	{order.Lines, "tax_percent", "alv|alv %|dph|dph %|afa|afa %|kdv|kdv %", ""},
	{order.Lines, "amount", "rivisumma|rivin summa|cena celkem|celkova cena|ertek|netto ertek|tutar|toplam tutar", "toplam"},
}
