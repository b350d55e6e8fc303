package order

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"testing"
)

// An encoder writes what encoding/json writes, whatever is filled.
func TestEncoder(t *testing.T) {
	for seed := range uint64(400) {
		fill := filler{rand.New(rand.NewPCG(seed, 7)), int(seed % 5)}
		var o Order
		fill.value(reflect.ValueOf(&o).Elem(), 0)
		sameJSON(t, seed, EncoderOf[Order](), &o)
		changes := make([]Change, fill.IntN(4))
		for i := range o.Lines {
			sameJSON(t, seed, EncoderOf[Line](), &o.Lines[i])
		}
		for i := range changes {
			fill.value(reflect.ValueOf(&changes[i]).Elem(), 0)
		}
		var moved MovementLine
		var billed InvoiceLine
		fill.value(reflect.ValueOf(&moved).Elem(), 0)
		fill.value(reflect.ValueOf(&billed).Elem(), 0)
		sameJSON(t, seed, EncoderOf[MovementLine](), &moved)
		sameJSON(t, seed, EncoderOf[InvoiceLine](), &billed)
		got, err := EncoderOf[Change]().AppendAll([]byte("x"), changes)
		want, _ := json.Marshal(changes)
		if err != nil || string(got) != "x"+string(want) {
			t.Fatalf("seed %d: %s, %v; want %s", seed, got, err, want)
		}
	}
}

func sameJSON[T Encoded](t *testing.T, seed uint64, e Encoder[T], v *T) {
	t.Helper()
	want, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := e.Append(nil, v); err != nil || string(got) != string(want) {
		t.Fatalf("seed %d: %v\n got %s\nwant %s", seed, err, got, want)
	}
}

// Members that are left out are blank when the JSON is read again, and nothing else is.
func TestEncoderWithout(t *testing.T) {
	l := Line{ID: 4, Number: "10", Item: "00417", Quantity: MustNumber("12.50"), Custom: []Custom{{"berth", "B"}}}
	for _, c := range []struct {
		but  []string
		want string
	}{
		{nil, `{"id":4,"number":"10","item":"00417","quantity":"12.50","custom":[{"name":"berth","value":"B"}]}`},
		{[]string{"id", "quantity"}, `{"number":"10","item":"00417","custom":[{"name":"berth","value":"B"}]}`},
		{[]string{"id", "number", "item", "quantity", "custom"}, `{}`},
	} {
		if got, err := EncoderOf[Line](c.but...).Append(nil, &l); err != nil || string(got) != c.want {
			t.Errorf("without %q: %s, %v", c.but, got, err)
		}
	}
}

// filler fills exported fields of a value by chance: none in much more than every second place, or nearly all.
type filler struct {
	*rand.Rand
	most int
}

func (f filler) value(v reflect.Value, depth int) {
	if f.most < 4 && f.IntN(4) > f.most {
		return
	}
	texts := []string{"", "00417", "Größe <5> & \"6\"", "\u2028\x00\xff", "a\\b\tc", "-"}
	switch v.Kind() {
	case reflect.String:
		v.SetString(texts[f.IntN(len(texts))])
	case reflect.Int, reflect.Int64:
		v.SetInt(f.Int64N(3) * f.Int64N(1<<40))
	case reflect.Bool:
		v.SetBool(f.IntN(2) == 0)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		f.value(v.Elem(), depth+1)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), f.IntN(4), 4))
		for i := range v.Len() {
			f.value(v.Index(i), depth+1)
		}
	case reflect.Struct:
		if n, ok := v.Addr().Interface().(*Number); ok {
			*n = MustNumber([]string{"", "0", "-0.50", "9223372036854775807", "12.5"}[f.IntN(5)])
			return
		}
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				f.value(v.Field(i), depth+1)
			}
		}
	}
}

func BenchmarkEncoder(b *testing.B) {
	o := Order{Kind: Sales, Number: "SO-000123", Partner: "OSTRAND", OrderedOn: "2026-03-02", Total: MustNumber("1140.00")}
	for range 10 {
		o.Lines = append(o.Lines, Line{Item: "00417", Description: "Rope 12 mm", Quantity: MustNumber("12"), Unit: "MTR",
			UnitPrice: MustNumber("9.50"), Amount: MustNumber("114.00"), Custom: []Custom{{"berth", "B"}}})
	}
	b.Run("encoding-json", func(b *testing.B) {
		for b.Loop() {
			if _, err := json.Marshal(&o); err != nil {
				b.Fatal(err)
			}
		}
	})
	e := EncoderOf[Order]()
	b.Run("encoder", func(b *testing.B) {
		var buf []byte
		for b.Loop() {
			var err error
			if buf, err = e.Append(buf[:0], &o); err != nil {
				b.Fatal(err)
			}
		}
	})
}
