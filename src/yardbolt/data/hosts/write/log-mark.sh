have logger || no 'untried: there is no logger'
logger -p auth.notice -t yardbolt "mark $value" </dev/null || no 'untried: logger failed'
