alter table release drop column failed_cases;
