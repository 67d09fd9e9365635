#@ lib/drill-account

end "$name"
