package main
import ("fmt";"os";"encoding/json";"nivot/internal/exchange";"nivot/internal/core/plan")
func main(){ b,err:=exchange.OpenBundle(os.Args[1]); if err!=nil{fmt.Println(err);os.Exit(1)}
 var ed []plan.Edit
 if len(os.Args)>2 { d,_:=os.ReadFile(os.Args[2]); ed,err=b.ReadEdits(d); if err!=nil{fmt.Println(err);os.Exit(1)} }
 f,_:=exchange.ParseInstant("2027-03-15T08:40",b.Sheet.Zone); t,_:=exchange.ParseInstant("2027-06-15",b.Sheet.Zone)
 ls,err:=plan.Rehearse(b.Settings(false),b.Rows,ed,f,t); if err!=nil{fmt.Println(err)}
 for _,l:=range ls{ e:=json.NewEncoder(os.Stdout); e.SetEscapeHTML(false); e.Encode(b.Line(l))}}
