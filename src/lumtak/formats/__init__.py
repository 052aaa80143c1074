"""Files of ours and of others, read in and out: readings (JSON, CSV), captures, OpenMetrics."""
