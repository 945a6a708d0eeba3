package database

// AccountBuiltIn tells of an account a, with its password as the credential c: computers,
// and what a system or a directory comes with: unix numbers below 1000 and nobody's, the
// first identifiers of a domain ([MS-DTYP] section 2.4.2.4). What something is known to
// use is looked at in any case.
const AccountBuiltIn = "(a.type = 'computer' OR (a.uid <> '' AND (CAST(a.uid AS INTEGER) < 1000 OR CAST(a.uid AS INTEGER) = 65534) OR a.sid GLOB 'S-1-5-21-*-50[0-3]') AND COALESCE(c.state, '') <> 'custody' AND NOT EXISTS (SELECT 1 FROM ties WHERE ties.account_id = a.id))"
