package plant

import (
	"fmt"
	"strings"
)

// decoy looks like a place that holds the account's password, and is none.
func (g *grower) decoy(a Account, all []Account) File {
	near := a.Name + []string{"2", "-old", "test", "_ro"}[g.IntN(4)]
	other := all[g.IntN(len(all))]
	for other.Name == a.Name {
		other = all[g.IntN(len(all))]
	}
	wrong := g.password()
	file, content := "", ""
	switch g.IntN(12) {
	case 0:
		file, content = "app.env.example", "BERTH_USER="+a.Name+"\nBERTH_PASSWORD=changeme\n"
	case 1:
		file, content = "config.sample.yaml", "user: "+a.Name+"\npassword: your-password-here\n"
	case 2:
		file, content = "README.md", "# Setting up\n\nRun as `"+a.Name+"` with `password = hunter22` or ask for it.\n\n    DB_USER="+a.Name+"\n    DB_PASSWORD=secret\n"
	case 3:
		file, content = "settings.ini", "[db]\nuser = nobody\n; user = "+a.Name+"\n; password = "+strings.Trim(wrong, ";")+"\npassword_file = /etc/"+g.word()+"/pw\n"
	case 4:
		file, content = "app.env", "DB_USER="+near+"\nDB_PASSWORD="+envQuote(wrong)+"\n"
	case 5:
		file, content = "app.env.bak", "DB_USER="+a.Name+"\nDB_PASSWORD="+envQuote(wrong)+"\n"
	case 6:
		file, content = "config.yaml~", "user: "+a.Name+"\npassword: '"+strings.ReplaceAll(wrong, "'", "''")+"'\n"
	case 7:
		file, content = "policy.conf", "account = "+a.Name+"\npassword_min_length = 14\npassword_history = 5\nrequire_password = yes\n"
	case 8:
		file, content = "notes.txt", "The account "+a.Name+" was set up by Ines. Its password lives in the vault; pass on nothing.\n"
	case 9:
		file, content = "app.yaml", "user: "+a.Name+"\npassword: ${TIDE_PASSWORD}\nurl: https://"+a.Name+".larkmoor.example/\n"
	case 10:
		file, content = "mixed.env", fmt.Sprintf("DB_USER=%s\nDB_PASSWORD=${DB_PASSWORD}\nSMTP_USER=%s\nSMTP_PASSWORD=%s\n", a.Name, near, envQuote(wrong))
	case 11:
		file, content = "deploy.py", "USER = '"+a.Name+"'\nPASSWORD = os.environ['DB_PASSWORD']  # password = 'x1y2z3'\nprint('password: ' + PASSWORD)\n"
	}
	return File{Path: g.place(file), Content: []byte(content), Mode: 0o644}
}

func (g *grower) word() string { return apps[g.IntN(len(apps))] }
