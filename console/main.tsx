document.title = "Tenedor";
