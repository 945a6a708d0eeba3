package plant

import (
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"net/url"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"
)

// format writes one credential.
type format struct {
	name, file     string
	comment        string
	lineEnds, mark bool
	spellings      bool // accounts may be written in other spellings
	knownOnly      bool // nothing but the value tells whose it is
	write          func(g *grower, user, password string) string
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func envQuote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(s) + `"`
}

func xmlText(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s))
	return out.String()
}

func marshalJSON(v any) string {
	raw, _ := json.MarshalIndent(v, "", "  ")
	return string(raw) + "\n"
}

func marshalYAML(v any) string {
	raw, _ := yaml.Marshal(v)
	return string(raw)
}

func phpQuote(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}

func propertyEscape(s string) string { return strings.ReplaceAll(s, `\`, `\\`) }

func unitQuote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%").Replace(s) + `"`
}

func address(scheme, user, password, host string) string {
	return (&url.URL{Scheme: scheme, User: url.UserPassword(user, password), Host: host, Path: "/tide"}).String()
}

// confSafe is the password where a layout cannot carry all of it: such files
// are then written in quotes.
func confValue(s string) string {
	if strings.ContainsAny(s, `#;"'\`) {
		return ""
	}
	return s
}

var formats = []format{
	{name: "env", file: "app.env", comment: "#", lineEnds: true, mark: true, spellings: true, write: func(_ *grower, u, p string) string {
		return "STATION=gannet\nBERTH_USER=" + envQuote(u) + "\nBERTH_PASSWORD=" + envQuote(p) + "\nDEBUG=0\n"
	}},
	{name: "env in single quotes", file: ".env", comment: "#", spellings: true, write: func(_ *grower, u, p string) string {
		return "export DB_USERNAME='" + u + "'\nexport DB_PASS=" + shellQuote(p) + "\nLOG=info\n"
	}},
	{name: "env URL", file: "production.env", comment: "#", lineEnds: true, write: func(_ *grower, u, p string) string {
		return "DATABASE_URL=" + address("postgres", u, p, "db.larkmoor.example:5432") + "\nPORT=8080\n"
	}},
	{name: "ini", file: "settings.ini", comment: ";", lineEnds: true, write: func(_ *grower, u, p string) string {
		v := confValue(p)
		if v == "" {
			return "[x]\na = 1\n[db]\nurl = " + address("mysql", u, p, "db.larkmoor.example") + "\n"
		}
		return "[general]\nlevel = 3\n\n[database]\nuser = " + u + "\npassword = " + v + "\ntimeout = 30\n"
	}},
	{name: "properties", file: "application.properties", comment: "#", lineEnds: true, spellings: true, write: func(_ *grower, u, p string) string {
		return "server.port=8080\nspring.datasource.username=" + propertyEscape(u) + "\nspring.datasource.password=" + propertyEscape(p) + "\n"
	}},
	{name: "JDBC in properties", file: "jdbc.properties", comment: "#", write: func(_ *grower, u, p string) string {
		return "db.url=jdbc:postgresql://db.larkmoor.example/tide?user=" + url.QueryEscape(u) + "&password=" + url.QueryEscape(p) + "&ssl=true\n"
	}},
	{name: "JDBC semicolons", file: "sql.properties", write: func(_ *grower, u, p string) string {
		return "url=" + propertyEscape("jdbc:sqlserver://db.larkmoor.example:1433;databaseName=tide;user="+u+";password={"+strings.ReplaceAll(p, "}", "}}")+"};encrypt=true") + "\n"
	}},
	{name: "JSON", file: "config.json", lineEnds: true, mark: true, spellings: true, write: func(_ *grower, u, p string) string {
		return marshalJSON(map[string]any{"name": "tides", "retries": 3, "database": map[string]any{"host": "db", "username": u, "password": p}})
	}},
	{name: "JSON with comments", file: "local.json", spellings: true, write: func(_ *grower, u, p string) string {
		return "{\n  // for the terminal only\n  \"ldap\": {\n    \"bindDn\": " + strings.TrimSpace(marshalJSON(u)) + ",\n    \"bindPassword\": " + strings.TrimSpace(marshalJSON(p)) + ", /* changed in spring */\n  },\n}\n"
	}},
	{name: "JSON URL", file: "queue.json", write: func(_ *grower, u, p string) string {
		return marshalJSON(map[string]any{"queue": address("amqps", u, p, "mq.larkmoor.example")})
	}},
	{name: "ADO in JSON", file: "appsettings.json", lineEnds: true, mark: true, spellings: true, write: func(_ *grower, u, p string) string {
		return marshalJSON(map[string]any{"ConnectionStrings": map[string]any{"Main": `Server=db.larkmoor.example;Database=tide;User Id="` + u + `";Password="` + strings.ReplaceAll(p, `"`, `""`) + `";`}})
	}},
	{name: "client login in JSON", file: "config.json", write: func(_ *grower, u, p string) string {
		return marshalJSON(map[string]any{"auths": map[string]any{"registry.larkmoor.example": map[string]any{"auth": base64.StdEncoding.EncodeToString([]byte(u + ":" + p))}}})
	}},
	{name: "YAML", file: "config.yaml", comment: "#", lineEnds: true, spellings: true, write: func(_ *grower, u, p string) string {
		return marshalYAML(map[string]any{"server": map[string]any{"port": 8080}, "datasource": map[string]any{"username": u, "password": p}})
	}},
	{name: "YAML block", file: "secret.yml", comment: "#", spellings: true, write: func(_ *grower, u, p string) string {
		return "login:\n  user: '" + u + "'\n  password: |-\n    " + p + "\n  realm: sea\n"
	}},
	{name: "YAML anchor", file: "jobs.yaml", comment: "#", write: func(_ *grower, u, p string) string {
		return "base: &base\n  user: " + u + "\n  password: '" + strings.ReplaceAll(p, "'", "''") + "'\njob:\n  <<: *base\n  every: 5m\n---\nother: true\n"
	}},
	{name: "file in YAML", file: "configmap.yaml", write: func(_ *grower, u, p string) string {
		return "kind: ConfigMap\ndata:\n  app.properties: |\n    level=info\n    db.user=" + u + "\n    db.password=" + shellOrPlain(p) + "\n  x: y\n"
	}},
	{name: "base64 in YAML", file: "secret-manifest.yaml", knownOnly: true, write: func(_ *grower, u, p string) string {
		return "kind: Secret\nmetadata:\n  name: " + u + "\ndata:\n  password: " + base64.StdEncoding.EncodeToString([]byte(p)) + "\n"
	}},
	{name: "container list", file: "docker-compose.yml", comment: "#", write: func(_ *grower, u, p string) string {
		return marshalYAML(map[string]any{"services": map[string]any{"app": map[string]any{"image": "tides", "environment": []string{"DATABASE_URL=" + address("mysql", u, p, "db"), "TZ=UTC"}}}})
	}},
	{name: "container map", file: "compose.yaml", comment: "#", spellings: true, write: func(_ *grower, u, p string) string {
		return marshalYAML(map[string]any{"services": map[string]any{"app": map[string]any{"environment": map[string]string{"DB_USER": u, "DB_PASSWORD": p}}}})
	}},
	{name: "name and value", file: "pod.yaml", spellings: true, write: func(_ *grower, u, p string) string {
		return marshalYAML(map[string]any{"env": []map[string]string{{"name": "TIDE_USER", "value": u}, {"name": "TIDE_PASSWORD", "value": p}}})
	}},
	{name: "TOML", file: "app.toml", comment: "#", spellings: true, write: func(_ *grower, u, p string) string {
		raw, _ := toml.Marshal(map[string]any{"title": "tides", "database": map[string]any{"user": u, "password": p, "pool": 4}})
		return string(raw)
	}},
	{name: "XML attributes", file: "web.config", lineEnds: true, mark: true, spellings: true, write: func(_ *grower, u, p string) string {
		return "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<configuration>\n  <connectionStrings>\n    <add name=\"Main\" connectionString=\"" + xmlText(`Server=db;User ID="`+u+`";Password='`+strings.ReplaceAll(p, "'", "''")+`'`) + "\" />\n  </connectionStrings>\n</configuration>\n"
	}},
	{name: "XML elements", file: "settings.xml", lineEnds: true, spellings: true, write: func(_ *grower, u, p string) string {
		return "<settings>\n  <!-- the harbour's own -->\n  <servers><server>\n    <username>" + xmlText(u) + "</username>\n    <password>" + xmlText(p) + "</password>\n  </server></servers>\n</settings>\n"
	}},
	{name: "XML properties", file: "beans.xml", spellings: true, write: func(_ *grower, u, p string) string {
		return "<beans><bean id=\"ds\">\n<property name=\"username\" value=\"" + xmlText(u) + "\"/>\n<property name=\"password\"><value><![CDATA[" + p + "]]></value></property>\n</bean></beans>\n"
	}},
	{name: "unit environment", file: "/etc/systemd/system/%s.service", comment: "#", write: func(_ *grower, u, p string) string {
		return "[Unit]\nDescription=Tides\n\n[Service]\nExecStart=/usr/bin/true\nEnvironment=DB_USER=" + u + " " + unitQuote("DB_PASSWORD="+p) + "\n"
	}},
	{name: "drop-in", file: "/etc/systemd/system/%s.service.d/login.conf", write: func(_ *grower, u, p string) string {
		return "[Service]\nEnvironment=TIDE_USER=" + u + "\nEnvironment=" + unitQuote("TIDE_PASSWORD="+p) + "\n"
	}},
	{name: "crontab", file: "/etc/cron.d/%s", comment: "#", write: func(_ *grower, u, p string) string {
		return "MAILTO=\"\"\n15 3 * * * root /usr/bin/mysqldump -u " + u + " --password=" + strings.ReplaceAll(shellQuote(p), "%", `\%`) + " tide > /var/backups/tide.sql\n"
	}},
	{name: "shell script", file: "export.sh", write: func(_ *grower, u, p string) string {
		return "#!/bin/bash\nset -eu\nDB_USER=" + u + "\nDB_PASSWORD=" + shellQuote(p) + "\nrun --user \"$DB_USER\" <<<\"$DB_PASSWORD\"\n"
	}},
	{name: "command in a script", file: "dump.sh", write: func(_ *grower, u, p string) string {
		return "#!/bin/sh\n# nightly\nPGPASSWORD=" + shellQuote(p) + " pg_dump -U " + u + " -h db tide | gzip > /var/backups/tide.gz\n"
	}},
	{name: "curl in a script", file: "ping.sh", write: func(_ *grower, u, p string) string {
		return "#!/bin/sh\nexec curl -fsS -u " + shellQuote(u+":"+p) + " https://feed.larkmoor.example/v1\n"
	}},
	{name: "PHP constants", file: "wp-config.php", lineEnds: true, spellings: true, write: func(_ *grower, u, p string) string {
		return "<?php\n/** made by hand */\ndefine( 'DB_USER', " + phpQuote(u) + " );\ndefine( 'DB_PASSWORD', " + phpQuote(p) + " );\n$table_prefix = 'wp_';\n"
	}},
	{name: "PHP array", file: "database.php", spellings: true, write: func(_ *grower, u, p string) string {
		return "<?php\nreturn [\n    'host' => 'db',\n    'username' => " + phpQuote(u) + ",\n    'password' => " + phpQuote(p) + ",\n];\n"
	}},
	{name: "Python settings", file: "settings.py", comment: "#", lineEnds: true, spellings: true, write: func(_ *grower, u, p string) string {
		return "import os\n\nDATABASES = {\n    'default': {\n        'USER': " + phpQuote(u) + ",\n        'PASSWORD': " + phpQuote(p) + ",\n    }\n}\n"
	}},
	{name: "pgpass", file: ".pgpass", comment: "#", write: func(_ *grower, u, p string) string {
		return "db.larkmoor.example:5432:*:" + u + ":" + strings.NewReplacer(`\`, `\\`, ":", `\:`).Replace(p) + "\n"
	}},
	{name: "netrc", file: ".netrc", comment: "#", write: func(_ *grower, u, p string) string {
		return "machine feed.larkmoor.example login " + u + "\n  password " + netrcQuote(p) + "\n"
	}},
	{name: "my.cnf", file: ".my.cnf", comment: "#", write: func(_ *grower, u, p string) string {
		v := confValue(p)
		if v == "" {
			return "[mysqldump]\nquick\n[client]\nuser=" + u + "\nhost=db\n# see the dump job\n[x]\nuri=" + address("mysql", u, p, "db") + "\n"
		}
		return "[client]\nuser=" + u + "\npassword=\"" + v + "\"\nhost=db\n"
	}},
	{name: "directory client", file: "nslcd.conf", comment: "#", write: func(_ *grower, u, p string) string {
		return "uri ldaps://dc1.larkmoor.example/\nbinddn CN=" + u + ",OU=Services,DC=larkmoor,DC=example\nbindpw " + p + "\n"
	}},
	{name: "ODBC", file: "odbc.ini", comment: ";", write: func(_ *grower, u, p string) string {
		v := confValue(p)
		if v == "" {
			v = address("postgres", u, p, "db")
		}
		return "[tide]\nDriver = PostgreSQL\nServername = db\nUID = " + u + "\nPWD = " + v + "\n"
	}},
	{name: "relay table", file: "sasl_passwd", comment: "#", write: func(_ *grower, u, p string) string {
		return "[relay.larkmoor.example]:587 " + u + ":" + p + "\n"
	}},
	{name: "libpq in YAML", file: "exporter.yml", write: func(_ *grower, u, p string) string {
		return marshalYAML(map[string]any{"source": "host=db user=" + u + " password='" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(p) + "' dbname=tide"})
	}},
	{name: "one value", file: "db.passwd", knownOnly: true, write: func(_ *grower, _, p string) string { return p + "\n" }},
	{name: "HTTP header", file: "probe.yaml", write: func(_ *grower, u, p string) string {
		return "headers:\n  Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte(u+":"+p)) + "\n"
	}},
}

func shellOrPlain(p string) string { return propertyEscape(p) }

func netrcQuote(p string) string {
	if strings.ContainsAny(p, `"\`) {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(p) + `"`
	}
	return p
}
