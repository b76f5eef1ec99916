"""Requirements compared with the survey: agreements, verdicts, remedies, which copies to put first on PATH."""
