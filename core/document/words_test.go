package document

import "testing"

func TestFiguresKeepTheirWholePart(t *testing.T) {
	for x, want := range map[float64]string{
		0: "0", 1: "1", -1: "-1", 0.5: "0.5", -0.25: "-0.25", 1234567: "1,234,567", 7412000.5: "7,412,000.5",
		-7412000: "-7,412,000", 123456789012: "123,456,789,012", 7.824999999999999: "7.82500",
		1234567.123456789: "1,234,567", 12.3456789012345: "12.3457", 0.123456789012345: "0.123457",
		0.00001: "0.00001", 0.0000123456789012: "1.23457e-05", 1e21: "1e+21", 0.1: "0.1",
	} {
		if got := Figure(x); got != want {
			t.Errorf("%v is written %s, want %s", x, got, want)
		}
	}
}

// Whoever reads 100 may take it that nothing is wrong.
func TestScoresAreNotRoundedToTheirEnds(t *testing.T) {
	for v, want := range map[float64]string{0: "0", 0.0001: "0.01", 50: "50.00", 99.994: "99.99", 99.9999: "99.99", 100: "100"} {
		if got := Score(v); got != want {
			t.Errorf("%v is written %s, want %s", v, got, want)
		}
	}
}
