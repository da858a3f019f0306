document.title = 'Tenedor';
