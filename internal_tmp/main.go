package main
import ("context";"fmt";"os";"time";"proudsieve/core/intake";"proudsieve/core/audit";"proudsieve/core/rulebook";"strconv";"runtime/pprof";"runtime/debug";"syscall")
func main(){
 w,_:=strconv.Atoi(os.Args[2])
 src,_:=os.ReadFile("/tmp/b/rules.yaml"); book,err:=rulebook.Parse(src); if err!=nil{panic(err)}
 f,err:=intake.Open(intake.AtPath(os.Args[1]), intake.Standard()); if err!=nil{panic(err)}
 debug.SetGCPercent(200); debug.SetMemoryLimit(400<<20)
 if len(os.Args)>3 { o,_:=os.Create(os.Args[3]); pprof.StartCPUProfile(o); defer pprof.StopCPUProfile() }
 t:=time.Now()
 r,err:=audit.Run(context.Background(), f, book, w); if err!=nil{panic(err)}
 var u syscall.Rusage; syscall.Getrusage(0,&u)
 fmt.Printf("rows %d score %v findings %d  %.2f s  rss %d MB\n", r.Rows,r.Score,len(r.Findings),time.Since(t).Seconds(), u.Maxrss/1024)
}
