package redis

import (
	"mossledger.example/moss/internal/connect"
)

// Prepare implements connect.Preparer.
func (Connector) Prepare(target connect.Target, _ connect.Known) []connect.Preparation {
	name := connect.PlainName(target.Steward.Account, "mossmgr")
	where := "as an administrator of " + target.Name + ", in redis-cli"
	return []connect.Preparation{
		{For: connect.ForSignIn, What: "the user; put its password in the place of the words", Where: where, Language: "acl", Text: "ACL SETUSER " + name + " reset on >PUT-ITS-PASSWORD-HERE +ping\n"},
		{For: connect.ForRead, What: "to read users with their rights, and who is signed in", Where: where, Language: "acl", Text: "ACL SETUSER " + name + " +acl|list +acl|cat +acl|getuser +client|list +client|id +info\n"},
		{For: connect.ForRotate, What: "to set passwords, and have them kept through a restart", Where: where, Language: "acl", Text: "ACL SETUSER " + name + " +acl +config|rewrite +config|get\nACL SAVE\n"},
		{For: connect.ForEnd, What: "to switch users on and off, and to delete them: with it every list can be changed, its own too", Where: where, Language: "acl", Text: "ACL SETUSER " + name + " +acl +config|rewrite\nACL SAVE\n"},
		{For: connect.ForAmend, What: "to give and take commands: with it every list can be changed, its own too", Where: where, Language: "acl", Text: "ACL SETUSER " + name + " +acl +config|rewrite\nACL SAVE\n"},
	}
}
