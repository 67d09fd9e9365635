#@ lib/drill-account

#@ lib/give

#@ lib/join

begin "$name"
let_in "$name" read
give "$name"
