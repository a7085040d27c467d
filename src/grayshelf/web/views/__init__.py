"""From answers to what a page shows: wording and layout data, no rule of the job."""
