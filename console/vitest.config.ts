import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  test: {
    environment: 'happy-dom',
    environmentOptions: { happyDOM: { url: 'https://moss.example/' } },
    setupFiles: ['src/testing/setup.ts'],
    // How long is no part of what is tested: on a machine whose processor others take, the largest page needs seconds.
    testTimeout: 300_000,
    hookTimeout: 300_000,
  },
})
