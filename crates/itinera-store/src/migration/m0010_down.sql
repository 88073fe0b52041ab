DROP TABLE sign_in_attempt;
