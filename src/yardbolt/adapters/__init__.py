"""One outside thing per file: channels, files, the safe, the records, the laptop's clock. Each translates foreign
errors into ours."""
