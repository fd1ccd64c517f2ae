package profile
import ("testing";"fmt";"math/rand/v2";"proudsieve/core/table")
func BenchmarkLook(b *testing.B){ r:=rand.New(rand.NewPCG(1,2)); texts:=make([]string,4096); for i:=range texts { texts[i]=fmt.Sprintf("%016x%016x",r.Uint64(),r.Uint64()) }
 var c shapeCounts; b.ResetTimer(); for i:=range b.N { c.survey(texts[i&4095]) } }
func BenchmarkPack(b *testing.B){ s:=0; for i:=range b.N { w,n:=pack(uint64(i)*0x9E3779B97F4A7C15, uint64(i)*0x9E3779B97F4A7C15&tops); s+=n+int(w&1) }; _ = s }
func BenchmarkTallyLong(b *testing.B){ r:=rand.New(rand.NewPCG(1,2)); texts:=make([]string,4096);tok:=make([]table.Token,4096); for i:=range texts { texts[i]=fmt.Sprintf("%016x%016x",r.Uint64(),r.Uint64());tok[i]=table.TokenOf(texts[i]) }
 var c Shard; c.Begin(1<<40); b.ResetTimer(); for i:=range b.N { c.tallyLong(tok[i&4095],texts[i&4095],1) } }
