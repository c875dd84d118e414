"""Every sentence that a user reads, from codes and values. No Qt; window, command line and report
say the same because they ask here."""
