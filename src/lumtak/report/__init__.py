"""What is handed over: a report as PDF, charts as SVG, data as JSON."""
