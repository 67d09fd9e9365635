#@ lib/fields

#@ lib/rights

there "$name" || no "there is no account $name"
rights "$name" "$role"
