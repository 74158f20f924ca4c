import '@fontsource/source-sans-3/latin-400.css';
import '@fontsource/source-sans-3/latin-600.css';
import '@fontsource/jetbrains-mono/latin-400.css';
import './lib/styles/tokens.css';
import { mount } from 'svelte';
import App from './App.svelte';

const target = document.getElementById('app');
if (target) {
  target.replaceChildren();
  mount(App, { target });
}
