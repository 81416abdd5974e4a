import { mount } from 'svelte';

import App from './app.svelte';
import './app.css';

const target = document.getElementById('app');
if (!target) throw new Error('index.html has the element');
mount(App, { target });
