#@ lib/ssh-server

#@ lib/ssh-set

change "$word" "$value"
