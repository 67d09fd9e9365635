#@ lib/dropbear
