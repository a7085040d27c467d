"""What every place of the page has in common: jobs, gates, rulers and words."""
