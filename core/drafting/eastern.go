package drafting

import "koinos/core/order"

// easternWordings are the words of Chinese, Japanese and Korean.
var easternWordings = []wording{
	{order.Header, "sender_number", "订单号|订单编号|采购订单号|采购单号|客户订单号|销售订单号|訂單號|訂單編號|采购订单|" +
		"注文番号|発注番号|受注番号|注文書番号|オーダー番号|주문번호|발주번호|주문서번호", "单号|编号|番号"},
	{order.Header, "ordered_on", "订单日期|下单日期|采购日期|下单时间|訂單日期|注文日|発注日|受注日|주문일|주문일자|발주일|발주일자", "日期|日付|날짜"},
	{order.Header, "requested_delivery_on", "交货日期|交期|要求交货日期|送货日期|到货日期|交貨日期|納期|納品日|希望納期|配達日|" +
		"납기|납기일|납품일|배송일", ""},
	{order.Header, "requested_ship_on", "发货日期|出货日期|出貨日期|出荷日|出荷予定日|출하일|출고일", ""},
	{order.Header, "currency", "币种|货币|幣別|通貨|통화", ""},
	{order.Header, "payment_terms", "付款条件|付款方式|付款條件|支払条件|支払方法|결제조건", ""},
	{order.Header, "partner", "客户编码|客户代码|客户编号|供应商编码|供应商代码|客戶編號|得意先コード|仕入先コード|顧客コード|取引先コード|" +
		"거래처코드|고객코드", "客户|客户名称|供应商|供应商名称|客戶|供應商|得意先|仕入先|顧客|取引先|거래처|고객|공급업체"},
	{order.Header, "total", "总金额|合计金额|订单总额|總金額|合計金額|総合計|총금액|합계금액", ""},
	{order.Header, "notes", "备注|说明|備註|備考|摘要|비고|메모", ""},
	{order.Header, "ship_to.name", "收货人|收货单位|收貨人|納品先|届け先|配送先|수령인|납품처", ""},
	{order.Header, "ship_to.street", "收货地址|送货地址|收貨地址|納品先住所|届け先住所|배송지주소|배송지", ""},
	{order.Header, "ship_to.code", "门店编码|门店|门店代码|店舗コード|매장코드", ""},
	{order.Lines, "number", "行号|序号|项次|項次|行番号|明細番号|순번|행번호", "行"},
	{order.Lines, "item", "物料编码|物料编号|物料代码|产品编码|产品编号|商品编码|货号|料号|品号|料號|產品編號|" +
		"品番|商品コード|製品コード|品目コード|商品番号|품번|품목코드|상품코드|자재코드", ""},
	{order.Lines, "description", "物料名称|产品名称|商品名称|品名|规格|描述|规格型号|產品名稱|商品名|製品名|品目名|" +
		"품명|상품명|품목명|규격", ""},
	{order.Lines, "quantity", "数量|订购数量|采购数量|订单数量|數量|訂購數量|注文数|注文数量|発注数|発注数量|수량|주문수량|발주수량", ""},
	{order.Lines, "unit", "单位|计量单位|單位|単位|단위", ""},
	{order.Lines, "unit_price", "单价|未税单价|不含税单价|單價|単価|税抜単価|단가", ""},
	{order.Lines, "discount_percent", "折扣|折扣率|値引率|할인율", ""},
	{order.Lines, "tax_percent", "税率|稅率|세율", ""},
	{order.Lines, "amount", "金额|小计|总价|金額|小計|금액|공급가액", ""},
}
