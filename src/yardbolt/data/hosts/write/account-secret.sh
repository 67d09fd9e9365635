#@ lib/fields

#@ lib/give

there "$name" || no "there is no account $name"
give "$name"
