module proudsieve

go 1.26.0

require (
	github.com/RoaringBitmap/roaring/v2 v2.30.0 // indirect
	github.com/agnivade/levenshtein v1.2.2 // indirect
	github.com/bits-and-blooms/bitset v1.24.4 // indirect
	github.com/cockroachdb/apd/v3 v3.2.3 // indirect
	github.com/go-jose/go-jose/v4 v4.1.9 // indirect
	github.com/goccy/go-yaml v1.19.2 // indirect
	github.com/gowebpki/jcs v1.0.2 // indirect
	github.com/klauspost/cpuid/v2 v2.2.10 // indirect
	github.com/mschoch/smat v0.2.0 // indirect
	github.com/zeebo/xxh3 v1.1.0 // indirect
	golang.org/x/sys v0.30.0 // indirect
	golang.org/x/text v0.44.0 // indirect
)
