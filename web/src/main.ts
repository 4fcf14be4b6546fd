import '@fontsource-variable/atkinson-hyperlegible-next/wght.css'
import '@fontsource-variable/atkinson-hyperlegible-mono/wght.css'
import './app.css'
import { mount } from 'svelte'
import App from './App.svelte'
import { applyTheme } from './lib/theme'

applyTheme()
mount(App, { target: document.getElementById('app')! })
