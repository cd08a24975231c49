"""Base idle airflow over coolant."""
