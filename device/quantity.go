package device

import (
	"fmt"
	"math"
	"math/big"
	"regexp"
	"strings"
	"sync"
)

// Quantity is a frequency in Hz, or a voltage in mV.
type Quantity uint64

// Dimension is what a quantity measures, with its units.
type Dimension struct {
	name  string
	units []unit // the largest first
}

// unit is a unit by its symbol in the SI, and how many of the smallest it has.
type unit struct {
	symbol string
	size   int64
}

// The dimensions of a map's quantities.
var (
	Frequency = &Dimension{"frequency", []unit{{"GHz", 1e9}, {"MHz", 1e6}, {"kHz", 1e3}, {"Hz", 1}}}
	Voltage   = &Dimension{"voltage", []unit{{"V", 1000}, {"mV", 1}}}
)

// symbols names the units.
func (d *Dimension) symbols() string {
	var list []string
	for _, u := range d.units {
		list = append(list, u.symbol)
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

var quantityText = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^([0-9]{1,12}(?:_[0-9]{1,12})*(?:\.[0-9]{1,12})?) ?([A-Za-z]+)$`)
})

// Parse reads a quantity, as 8 MHz or 3.3 V: a decimal number, not below the smallest unit.
func (d *Dimension) Parse(text string) (Quantity, error) {
	m := quantityText().FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return 0, fmt.Errorf("%q is not a %s: a decimal number with %s", text, d.name, d.symbols())
	}
	for _, u := range d.units {
		if u.symbol != m[2] {
			continue
		}
		value, ok := new(big.Rat).SetString(strings.ReplaceAll(m[1], "_", ""))
		if !ok {
			break
		}
		value.Mul(value, new(big.Rat).SetInt64(u.size))
		smallest := d.units[len(d.units)-1].symbol
		switch {
		case !value.IsInt():
			return 0, fmt.Errorf("%q is not a whole number of %s", text, smallest)
		case !value.Num().IsUint64():
			return 0, fmt.Errorf("%q is more than 64 bits of %s", text, smallest)
		}
		return Quantity(value.Num().Uint64()), nil
	}
	return 0, fmt.Errorf("%q is not a %s: unknown unit %s; expected %s", text, d.name, m[2], d.symbols())
}

// Format prints a quantity in the largest unit of which it has one.
func (d *Dimension) Format(q Quantity) string {
	for _, u := range d.units {
		if uint64(q) >= uint64(u.size) || u.size == 1 {
			digits := len(fmt.Sprint(u.size)) - 1
			text := new(big.Rat).SetFrac(new(big.Int).SetUint64(uint64(q)), big.NewInt(u.size)).FloatString(digits)
			if digits > 0 {
				text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
			}
			return text + " " + u.symbol
		}
	}
	return ""
}

// Range is quantities from one to another, both included.
type Range struct{ Low, High Quantity }

// Covers reports whether all quantities of another range are in it.
func (r Range) Covers(other Range) bool { return r.Low <= other.Low && other.High <= r.High }

// ParseRange reads a range: 4 MHz..16 MHz, >= 2.7 V, <= 8 MHz, or one quantity.
func (d *Dimension) ParseRange(text string) (r Range, err error) {
	text = strings.TrimSpace(text)
	r.High = math.MaxUint64
	if low, high, ok := strings.Cut(text, ".."); ok {
		if r.Low, err = d.Parse(low); err != nil {
			return r, err
		}
		if r.High, err = d.Parse(high); err == nil && r.Low > r.High {
			err = fmt.Errorf("%q: the lower one comes first", text)
		}
		return r, err
	}
	if low, ok := strings.CutPrefix(text, ">="); ok {
		r.Low, err = d.Parse(low)
		return r, err
	}
	if high, ok := strings.CutPrefix(text, "<="); ok {
		r.High, err = d.Parse(high)
		return r, err
	}
	r.Low, err = d.Parse(text)
	r.High = r.Low
	return r, err
}

// FormatRange prints a range as [Dimension.ParseRange] reads it.
func (d *Dimension) FormatRange(r Range) string {
	switch {
	case r.Low == r.High:
		return d.Format(r.Low)
	case r.High == math.MaxUint64:
		return ">= " + d.Format(r.Low)
	case r.Low == 0:
		return "<= " + d.Format(r.High)
	}
	return d.Format(r.Low) + ".." + d.Format(r.High)
}
